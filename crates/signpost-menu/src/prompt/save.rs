//! What is composed, as an entry of the menu.

use alloc::string::{String, ToString};
use alloc::vec::Vec;
use alloc::{format, vec};

use super::{Composed, Hands, Reply, Then};
use crate::layouts::newest_pattern;
use crate::place::stable;
use crate::quote::quoted;
use crate::resolve::StartTarget;

/// The words for an entry that is in the menu now.
pub fn saved(id: &str, is_default: bool) -> String {
    format!("{id} is in the menu{}", if is_default { ", and the default" } else { "" })
}

/// The keys of an entry for what is composed.
pub(super) fn save(hands: &impl Hands, composed: &Composed, rest: &str) -> Result<Reply, String> {
    let (is_default, title) = match rest.strip_prefix("--default") {
        Some(title) => (true, title.trim()),
        None => (false, rest),
    };
    if title.is_empty() {
        return Err("save under which title? save The one that works".into());
    }
    let text = |value: &str| quoted(value);
    let volume_name = |volume: usize| {
        let name = stable(volume, hands.volumes());
        name.map(|name| name.to_string())
            .ok_or_else(|| format!("no stable name tells {} from other volumes", hands.name(volume)))
    };
    let list = |paths: &[String]| {
        format!("[{}]", paths.iter().map(|path| quoted(path)).collect::<Vec<_>>().join(", "))
    };
    let body = match &composed.target {
        StartTarget::Linux { volume, kernel, initrds, args, root } => {
            let newest = composed.is_newest.then(|| newest_pattern(kernel, initrds)).flatten();
            let (kernel, initrds) = newest.unwrap_or_else(|| (kernel.clone(), initrds.clone()));
            let mut body = vec![
                ("starts", text("linux")),
                ("volume", text(&volume_name(*volume)?)),
                ("kernel", text(&kernel)),
            ];
            if !initrds.is_empty() {
                body.push(("initrd", list(&initrds)));
            }
            if let Some(root) = root {
                body.push(("root", text(&volume_name(*root)?)));
            }
            body.push(("args", text(args)));
            body
        }
        StartTarget::Program { volume, path, args } => {
            let mut body =
                vec![("starts", text("efi")), ("program", text(&format!("{}{path}", volume_name(*volume)?)))];
            if !args.is_empty() {
                body.push(("args", text(args)));
            }
            body
        }
        StartTarget::Image { volume, image, kernel, initrds, args } => {
            let place = format!("{}{image}", volume_name(*volume)?);
            let mut body = vec![("starts", text("image")), ("image", text(&place)), ("kernel", text(kernel))];
            if !initrds.is_empty() {
                body.push(("initrd", list(initrds)));
            }
            body.push(("args", text(args)));
            body
        }
        StartTarget::Sector { volume, file, manner } if !manner.first_sector => match file {
            None => vec![("starts", text("sector")), ("volume", text(&volume_name(*volume)?))],
            Some(path) => {
                let place = format!("{}{path}", volume_name(*volume)?);
                vec![("starts", text("sector")), ("sector", text(&place))]
            }
        },
        StartTarget::Sector { .. }
        | StartTarget::FirmwareEntry { .. }
        | StartTarget::BuiltIn
        | StartTarget::Group => {
            return Err("it is an entry of the menu already, or none that a menu keeps".into());
        }
    };
    Ok(Reply::then("", Then::Save { title: title.to_string(), is_default, body }))
}
