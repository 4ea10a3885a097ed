#!/usr/bin/python
# -*- coding: utf-8 -*-

# Early Signpost, under MIT OR Apache-2.0.

"""Has a PC's boot menu follow a policy, by what the program `signpost` does."""

from __future__ import annotations

DOCUMENTATION = r"""
module: menu
short_description: Has a PC's boot menu follow a policy
description:
  - Plans first, with the menu file that the policy makes of the PC's own survey. Where a guard refuses that, nothing is written.
  - Then writes the policy, has the menu file follow it, and applies the menu.
  - Reports a change only where the policy, the menu file or the PC became another.
options:
  policy:
    description: What the menu is to say, by the keys that C(signpost policy --keys) lists.
    type: dict
    default: {}
  home:
    description: The volume for boot program and menu.
    type: str
    default: ""
  take_over:
    description: Whether the menu of another system of the PC is replaced.
    type: bool
    default: false
  despite:
    description: Codes of guards to override.
    type: list
    elements: str
    default: []
  boot_program:
    description: The boot program on the PC, instead of the one that is found.
    type: path
  machine:
    description: C(live), or the folder of a bench.
    type: str
    default: live
  program:
    description: The program on the PC.
    type: str
    default: signpost
author:
  - The Early Signpost authors
attributes:
  check_mode:
    support: full
  diff_mode:
    support: full
"""

EXAMPLES = r"""
- name: The same menu on all PCs of the lab
  early_signpost.fleet.menu:
    policy:
      host: signpost
      timeout: 10
      default: Larkspur Linux 14
      kernel:
        args: quiet
"""

RETURN = r"""
code:
  description: What refused or went wrong, as in docs/problem-codes.md.
  returned: failure
  type: str
instead:
  description: What to do instead, where a guard refused.
  returned: failure
  type: str
errors:
  description: What is wrong with the policy, each with line, column and message.
  returned: failure
  type: list
policy_file:
  description: Where the policy is.
  returned: success
  type: str
notes:
  description: What of the policy fits nothing on this PC.
  returned: success
  type: list
writes:
  description: What is written, or would be, in words and in order.
  returned: success
  type: list
starts_next:
  description: What starts next there, in words.
  returned: success
  type: str
problems:
  description: What C(signpost check) finds that is more than untidy, each with code, effect and message.
  returned: success
  type: list
document:
  description: What C(signpost survey --json) prints, for C(signpost report).
  returned: success
  type: dict
ansible_facts:
  description: The survey's result, as C(signpost).
  returned: success
  type: dict
"""

import json
import os
import re
import tempfile

from ansible.module_utils.basic import AnsibleModule

# Exit codes of the program.
DONE, TO_DO = 0, 1


class Program:
    """The program `signpost` on one machine."""

    def __init__(self, module):
        self.module = module
        self.path = module.get_bin_path(module.params["program"])
        self.words = ["--machine", module.params["machine"], "--color", "never"]

    def run(self, *args):
        return self.module.run_command([self.path, *self.words, *args])

    def document(self, *args):
        """What a command prints with `--json`; one that failed fails the host."""
        code, out, err = self.run(*args, "--json")
        try:
            document = json.loads(out)
        except ValueError:
            self.module.fail_json(msg=err.strip() or "it printed no document", rc=code, command=args[0])
        error = document.get("error")
        if error:
            self.fail(args[0], code, error)
        return document

    def fail(self, command, rc, error):
        message = error["message"]
        if self.module.hidden_file:
            message = message.replace(self.module.hidden_file, self.module.policy_file)
        told = {key: error[key] for key in ("code", "instead", "refusals", "errors") if error.get(key)}
        if told.get("instead"):
            message += "; instead: " + told["instead"]
        self.module.fail_json(msg=message, rc=rc, command=command, changed=self.module.has_written, **told)


def toml_key(key):
    """A key as TOML writes it."""
    return key if re.fullmatch("[A-Za-z0-9_-]+", key) else toml_value(key, key)


def toml_value(key, value):
    """A value as TOML writes it. A JSON string is one of TOML's too."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, (int, float)):
        return str(value)
    if isinstance(value, str):
        return json.dumps(value, ensure_ascii=False).replace("\x7f", "\\u007f")
    if isinstance(value, list):
        return "[" + ", ".join(toml_value(key, item) for item in value) + "]"
    raise ValueError("policy: %s takes a text, a number, true or false, a list or a table" % key)


def toml(policy):
    """A policy as a file: keys first, then tables."""
    lines = ["# Written for many machines; what is changed here is written over.\n"]
    tables = {key: value for key, value in policy.items() if isinstance(value, dict)}
    for key in sorted(set(policy) - set(tables)):
        lines.append("%s = %s\n" % (toml_key(key), toml_value(key, policy[key])))
    for name in sorted(tables):
        lines.append("\n[%s]\n" % toml_key(name))
        for key, value in tables[name].items():
            lines.append("%s = %s\n" % (toml_key(str(key)), toml_value(key, value)))
    return "".join(lines)


def read(path):
    try:
        with open(path, encoding="utf-8") as file:
            return file.read()
    except FileNotFoundError:
        return None


def write_beside(module, text):
    """The text as a file that goes away with the module's own."""
    handle, path = tempfile.mkstemp(suffix=".toml", dir=module.tmpdir)
    with os.fdopen(handle, "w", encoding="utf-8") as file:
        file.write(text)
    return path


def apply_options(params):
    options = ["--take-over"] if params["take_over"] else []
    for name in ("home", "boot_program"):
        if params[name]:
            options += ["--" + name.replace("_", "-"), params[name]]
    if params["despite"]:
        options += ["--despite", ",".join(params["despite"])]
    return options


def shown(policy_file, before, text, menu, plan):
    """The difference, as `--diff` shows it: policy, menu file, then the plan."""
    pairs = [(policy_file, before, text), (menu["file"], menu["before"], menu["after"])]
    files = [
        {"before": old or "", "after": new, "before_header": path, "after_header": path}
        for path, old, new in pairs
        if old != new
    ]
    return files + ([{"prepared": plan}] if plan else [])


def main():
    module = AnsibleModule(
        argument_spec={
            "policy": {"type": "dict", "default": {}},
            "home": {"type": "str", "default": ""},
            "take_over": {"type": "bool", "default": False},
            "despite": {"type": "list", "elements": "str", "default": []},
            "boot_program": {"type": "path"},
            "machine": {"type": "str", "default": "live"},
            "program": {"type": "str", "default": "signpost"},
        },
        supports_check_mode=True,
    )
    params = module.params
    folder = "/etc/signpost" if params["machine"] == "live" else params["machine"]
    module.policy_file = os.path.join(folder, "policy.toml")
    module.hidden_file, module.has_written = None, False
    program = Program(module)
    if program.path is None and module.check_mode:
        module.exit_json(changed=True, msg="the program is not installed yet, so nothing can be planned")
    if program.path is None:
        module.fail_json(msg="there is no program %s; signpost_package installs it" % params["program"])
    try:
        text = toml(params["policy"])
    except ValueError as error:
        module.fail_json(msg=str(error))

    before = read(module.policy_file)
    module.hidden_file = write_beside(module, text)
    options = apply_options(params)
    plan_words = ["plan", "--from", module.hidden_file, *options]
    planned = program.document(*plan_words)["result"]
    menu, writes = planned["menu_file"], [write["what"] for write in planned["writes"]]
    told = {
        "policy_file": module.policy_file,
        "writes": writes,
        "notes": menu["policy"].get("notes", []),
        "changed": before != text or menu["before"] != menu["after"] or bool(writes),
    }
    if module._diff:
        plan = program.run(*plan_words)[1] if writes else ""
        told["diff"] = shown(module.policy_file, before, text, menu, plan)
    if not module.check_mode:
        if before != text:
            os.makedirs(folder, exist_ok=True)
            module.atomic_move(write_beside(module, text), module.policy_file)
            module.has_written = True
        program.document("draft", "--from", module.policy_file)
        module.has_written = module.has_written or read(menu["file"]) != menu["before"]
        applied = program.document("apply", "--yes", *options)["result"]
        told["changed"] = module.has_written or applied["record"] is not None
    check = program.document("check")["result"]
    told["starts_next"] = check["starts_next"]
    told["problems"] = [
        {key: cause[key] for key in ("code", "effect", "message")}
        for cause in check["causes"]
        if cause["effect"] != "untidy"
    ]
    told["document"] = program.document("survey", "--no-record")
    module.exit_json(ansible_facts={"signpost": told["document"]["result"]}, **told)


if __name__ == "__main__":
    main()
