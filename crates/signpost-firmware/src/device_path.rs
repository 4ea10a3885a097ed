//! Device paths (UEFI 2.10, chapter 10): how a load option names what it starts.
//!
//! A path is kept as its nodes' own bytes, so that writing it gives what was read; [`Node::view`] decodes
//! the kinds that load options use.

mod node;
mod text;
mod words;

pub use node::{HardDrive, Node, PartitionSignature, View};

use alloc::string::String;
use alloc::vec::Vec;

/// No path of a real load option comes near this many nodes.
const MAX_NODES: usize = 64;

/// One device path, without its end node.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct DevicePath {
    nodes: Vec<Node>,
}

/// Why bytes are not device path; offsets in bytes from the path's start.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum DevicePathFault {
    /// The bytes end before an end node.
    #[error("no end node; the path breaks off at offset {0}")]
    Unending(usize),
    /// A node shorter than its header, or longer than what is left.
    #[error("node at offset {offset} claims {length} bytes; at least 4 and at most {left} can be")]
    NodeLength {
        /// Where the node starts.
        offset: usize,
        /// Its length field.
        length: usize,
        /// Bytes left.
        left: usize,
    },
    /// More nodes than any path has.
    #[error("more than {MAX_NODES} nodes")]
    TooMany,
    /// An end node of an unknown kind or with data.
    #[error("end node at offset {0} is not a plain end of the whole path")]
    OddEnd(usize),
}

impl DevicePath {
    /// A path of these nodes.
    pub fn new(nodes: Vec<Node>) -> Self {
        Self { nodes }
    }

    /// The first path in `bytes`, and what follows its end node.
    ///
    /// # Errors
    /// Where a node's length cannot be true, or no end comes.
    pub fn decode(bytes: &[u8]) -> Result<(Self, &[u8]), DevicePathFault> {
        let mut nodes = Vec::new();
        let mut rest = bytes;
        loop {
            let offset = bytes.len().saturating_sub(rest.len());
            let (header, _) = rest.split_first_chunk::<4>().ok_or(DevicePathFault::Unending(offset))?;
            let [kind, sub_kind, low, high] = *header;
            let length = usize::from(u16::from_le_bytes([low, high]));
            let fault = DevicePathFault::NodeLength { offset, length, left: rest.len() };
            let (node, after) = rest.split_at_checked(length).ok_or(fault.clone())?;
            let data = node.get(4..).ok_or(fault)?;
            if kind == Node::END && sub_kind == Node::END_ENTIRE {
                return if data.is_empty() {
                    Ok((Self { nodes }, after))
                } else {
                    Err(DevicePathFault::OddEnd(offset))
                };
            }
            if nodes.len() >= MAX_NODES {
                return Err(DevicePathFault::TooMany);
            }
            nodes.push(Node { kind, sub_kind, data: Vec::from(data) });
            rest = after;
        }
    }

    /// The bytes of the path, its end node included.
    pub fn encode(&self) -> Vec<u8> {
        let mut bytes = Vec::new();
        for node in &self.nodes {
            node.encode_into(&mut bytes);
        }
        bytes.extend([Node::END, Node::END_ENTIRE, 4, 0]);
        bytes
    }

    /// Its nodes.
    pub fn nodes(&self) -> &[Node] {
        &self.nodes
    }

    /// Whether it leads to what people plug in and take along: over USB, or to a card.
    pub fn is_pluggable(&self) -> bool {
        self.nodes.iter().any(Node::is_pluggable)
    }

    /// The nodes, decoded.
    pub fn views(&self) -> impl Iterator<Item = View> {
        self.nodes.iter().map(Node::view)
    }

    /// The partition it names, if it names one.
    pub fn hard_drive(&self) -> Option<HardDrive> {
        self.views().find_map(|view| match view {
            View::HardDrive(drive) => Some(drive),
            _ => None,
        })
    }

    /// The file it names, if it names one: file nodes in a row are one path (10.3.5.4).
    pub fn file(&self) -> Option<String> {
        let mut path: Option<String> = None;
        for view in self.views() {
            if let View::FilePath(part) = view {
                let part = alloc::format!("{part}");
                path = Some(match path {
                    Some(before) => {
                        alloc::format!("{}\\{}", before.trim_end_matches('\\'), part.trim_start_matches('\\'))
                    }
                    None => part,
                });
            }
        }
        path
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use alloc::string::ToString;
    use alloc::vec;
    use proptest::prelude::*;

    fn drive() -> HardDrive {
        HardDrive {
            number: 1,
            start: 2048,
            size: 65536,
            signature: PartitionSignature::Guid(uguid::guid!("8a4b1c52-7f0e-4d1e-9b55-2f6a3c9d1e01")),
        }
    }

    #[test]
    fn a_path_to_a_file_on_a_partition() {
        let path = DevicePath::new(vec![Node::hard_drive(&drive()), Node::file_path("\\EFI\\a.efi")]);
        let bytes = path.encode();
        assert_eq!(bytes.len(), 42 + 4 + 22 + 4);
        let (read, rest) = DevicePath::decode(&bytes).unwrap();
        assert_eq!((&read, rest.len()), (&path, 0));
        assert_eq!(read.hard_drive(), Some(drive()));
        assert_eq!(read.file().as_deref(), Some("\\EFI\\a.efi"));
        assert_eq!(read.to_string(), "partition 1 (8a4b1c52-7f0e-4d1e-9b55-2f6a3c9d1e01), file \\EFI\\a.efi");
    }

    #[test]
    fn file_nodes_in_a_row_are_one_path() {
        let path = DevicePath::new(vec![Node::file_path("\\EFI\\"), Node::file_path("\\a.efi")]);
        assert_eq!(path.file().as_deref(), Some("\\EFI\\a.efi"));
    }

    #[test]
    fn lengths_that_cannot_be_true_are_named() {
        assert_eq!(DevicePath::decode(&[]), Err(DevicePathFault::Unending(0)));
        let zero = DevicePathFault::NodeLength { offset: 0, length: 0, left: 4 };
        assert_eq!(DevicePath::decode(&[4, 4, 0, 0]), Err(zero));
        let long = DevicePathFault::NodeLength { offset: 0, length: 5, left: 4 };
        assert_eq!(DevicePath::decode(&[4, 4, 5, 0]), Err(long));
        assert_eq!(DevicePath::decode(&[0x7f, 0xff, 5, 0, 1]), Err(DevicePathFault::OddEnd(0)));
        let many: Vec<u8> = [4, 4, 4, 0].repeat(65);
        assert_eq!(DevicePath::decode(&many), Err(DevicePathFault::TooMany));
    }

    proptest! {
        #[test]
        fn random_nodes_round_trip_and_have_words(
            nodes in prop::collection::vec((0u8..8, any::<u8>(), prop::collection::vec(any::<u8>(), 0..60)), 0..6)
        ) {
            let nodes = nodes.into_iter().map(|(kind, sub_kind, data)| Node { kind, sub_kind, data }).collect();
            let path = DevicePath::new(nodes);
            let bytes = path.encode();
            let (read, rest) = DevicePath::decode(&bytes).unwrap();
            prop_assert_eq!((&read, rest.len()), (&path, 0));
            prop_assert!(path.nodes().is_empty() || !read.to_string().is_empty());
            let _ = (read.file(), read.hard_drive());
        }

        #[test]
        fn random_bytes_never_panic(bytes: Vec<u8>) {
            if let Ok((path, rest)) = DevicePath::decode(&bytes) {
                let mut written = path.encode();
                written.extend(rest);
                prop_assert_eq!(written, bytes);
            }
        }
    }
}
