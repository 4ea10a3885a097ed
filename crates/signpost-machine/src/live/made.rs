//! Volumes that the kernel has put together of others, as it and the device manager describe them: for those whose
//! members we may not read.

use std::fs;

use signpost_disk::probe::Identity;
use signpost_disk::uuid_text;
use signpost_menu::linux_files::mapper_parts;

use super::block::{BlockNode, Nature};
use super::described;
use super::line::text;
use super::numbers::{Numbers, Root, digits};

/// What starts the device mapper's identity of a logical volume.
const LVM: &str = "LVM-";
/// Digits in an identity of LVM2's; what is made for its own use has more behind them.
const LVM_DIGITS: usize = 32;

/// What a device is to those who use it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Made {
    /// A mirror.
    Mirror {
        /// Its identity, as its members carry it.
        uuid: String,
        /// Its name.
        name: Option<String>,
    },
    /// A logical volume.
    Logical {
        /// Its group.
        group: String,
        /// Its name.
        name: String,
    },
}

/// A device made from other devices.
#[derive(Clone, Debug)]
pub struct MadeNode {
    /// What it is.
    pub made: Made,
    /// By which the kernel knows it.
    pub numbers: Numbers,
    /// The devices that it was made of.
    pub members: Vec<Numbers>,
    /// What it holds.
    pub identity: Identity,
    /// Bytes.
    pub size: u64,
}

/// Those of the devices that our own readers would put together too, mirrors first: a logical volume may lie on one.
pub(super) fn all(root: &Root, nodes: &[BlockNode]) -> Vec<MadeNode> {
    let mut found: Vec<MadeNode> = nodes.iter().filter_map(|node| of_node(root, node)).collect();
    found.sort_by(|a, b| a.made.cmp(&b.made));
    found
}

/// The devices beneath one.
pub(super) fn members(root: &Root, node: &BlockNode) -> Vec<Numbers> {
    let folder = root.at(&format!("sys/block/{}/slaves", node.name));
    let Ok(members) = fs::read_dir(folder) else { return Vec::new() };
    members.filter_map(|member| Numbers::parse(&text(&member.ok()?.path().join("dev"))?)).collect()
}

fn of_node(root: &Root, node: &BlockNode) -> Option<MadeNode> {
    let Nature::MadeOf(name) = &node.nature else { return None };
    let folder = root.at(&format!("sys/block/{}", node.name));
    let made = if text(&folder.join("md/level")).as_deref() == Some("raid1") {
        let name = node.properties.get("MD_NAME").filter(|name| !name.is_empty()).cloned();
        let uuid = u128::from_str_radix(&digits(&node.array_identity(root)?), 16).ok()?;
        Made::Mirror { uuid: uuid_text(&uuid.to_be_bytes()), name }
    } else {
        let own = text(&folder.join("dm/uuid"))?;
        if own.strip_prefix(LVM)?.len() != 2 * LVM_DIGITS {
            return None;
        }
        let (group, name) = mapper_parts(name)?;
        Made::Logical { group, name }
    };
    Some(MadeNode {
        made,
        numbers: node.numbers,
        members: members(root, node),
        identity: described::identity(&node.properties),
        size: node.size,
    })
}
