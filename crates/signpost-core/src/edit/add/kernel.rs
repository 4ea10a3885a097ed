//! A kernel that a person names, on any volume, with or without a system there.

use signpost_facts::Result;
use signpost_menu::kernel_args::{Missing, missing_volumes};
use signpost_menu::place::Place;
use signpost_menu::prompt::initrds_of;
use signpost_menu::resolve::{Surroundings, Within};
use signpost_place::Look;

use super::super::entries::resolved;
use super::super::wrong;
use crate::draft::{Body, Field};

/// A kernel with what goes with it.
#[derive(Clone, Debug)]
pub struct Kernel {
    /// The kernel.
    pub kernel: Place,
    /// Its initrds; where none is named, those that lie beside it under its name.
    pub initrds: Vec<Place>,
    /// Its arguments.
    pub args: Option<String>,
}

/// Its title and body; what its arguments name is there.
pub(super) fn kernel(look: &Look, new: &Kernel, is_unchecked: bool) -> Result<(String, Body)> {
    let volume = resolved(look, &new.kernel.volume)?;
    let path = new.kernel.path.clone();
    let within = Within::volume(volume);
    let header = look.kernel_header(within, &path);
    if header.is_none() && !is_unchecked {
        let name = look.at(volume, &path);
        return Err(wrong(match look.size(within, &path) {
            Some(_) => format!("{name} is not a Linux kernel; --unchecked adds it anyway"),
            None => format!("{name} is not there{}", super::nearest_folder(look, volume, &path)),
        }));
    }
    let mut initrds = Vec::new();
    for initrd in &new.initrds {
        if resolved(look, &initrd.volume)? != volume {
            let (own, other) = (look.name(volume), &initrd.volume);
            return Err(wrong(format!(
                "kernel and initrd belong on one volume; the kernel is on {own}, the initrd on {other}"
            )));
        }
        initrds.push(initrd.path.clone());
    }
    if new.initrds.is_empty() {
        initrds = initrds_of(look, within, &path);
    }
    let args = new.args.clone().unwrap_or_default();
    for missing in missing_volumes(look, &args) {
        if let (Missing::Gone { words, .. }, false) = (missing, is_unchecked) {
            return Err(wrong(format!("{words}; --unchecked adds it anyway")));
        }
    }
    let version = header.and_then(|header| header.version);
    let title = version.map_or_else(
        || path.rsplit('/').next().unwrap_or_default().to_string(),
        |version| format!("Linux {version}"),
    );
    let mut body = vec![
        ("starts", Field::from("linux")),
        ("volume", look.stable_name(volume)?.to_string().into()),
        ("kernel", path.into()),
    ];
    if !initrds.is_empty() {
        body.push(("initrd", Field::List(initrds)));
    }
    if !args.is_empty() {
        body.push(("args", args.into()));
    }
    Ok((title, (body, format!("the kernel on {}", look.whereabouts(volume)))))
}
