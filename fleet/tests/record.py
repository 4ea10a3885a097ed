"""Writes what became of each task and each host as lines of JSON, for tests."""

from __future__ import annotations

import json
import os

from ansible.plugins.callback import CallbackBase

DOCUMENTATION = """
name: record
type: aggregate
short_description: Lines of JSON for tests
description:
  - One line for each result of a task, then one with the counts of each host.
"""


class CallbackModule(CallbackBase):
    CALLBACK_VERSION = 2.0
    CALLBACK_TYPE = "aggregate"
    CALLBACK_NAME = "record"

    def __init__(self):
        super().__init__()
        self.file = open(os.environ["SIGNPOST_RECORD"], "w", encoding="utf-8")

    def line(self, **values):
        self.file.write(json.dumps(values, default=str) + "\n")
        self.file.flush()

    def result(self, status, result):
        told = {key: value for key, value in result._result.items() if not key.startswith("_")}
        # A survey is long, and tests ask the program for it.
        told.pop("document", None)
        facts = told.pop("ansible_facts", {})
        task = result._task.get_name()
        self.line(host=result._host.get_name(), task=task, status=status, facts=sorted(facts), result=told)

    def v2_runner_on_ok(self, result):
        self.result("ok", result)

    def v2_runner_on_failed(self, result, ignore_errors=False):
        self.result("failed", result)

    def v2_runner_on_unreachable(self, result):
        self.result("unreachable", result)

    def v2_playbook_on_stats(self, stats):
        hosts = {host: stats.summarize(host) for host in stats.processed}
        self.line(hosts=hosts)
        self.file.close()
