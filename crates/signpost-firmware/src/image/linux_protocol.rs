//! Starting a Linux kernel without firmware of its own kind: by the 32-bit entry (the kernel's document "The Linux/x86 Boot
//! Protocol", sections "Details of Header Fields" and "32-bit Boot Protocol"; `struct boot_params` in "Zero Page").

use alloc::format;
use alloc::string::String;

use crate::bytes::{u16_at, u32_at, u64_at};

/// Bytes of `boot_params`.
pub const PARAMS: usize = 4096;
/// Where the header begins in the file, and in `boot_params` too.
const HEADER: usize = 0x1f1;
/// `LOADED_HIGH`: the protected-mode code goes to 1 MiB and above.
const LOADED_HIGH: u8 = 1;
/// Bytes of a sector.
const SECTOR: u64 = 512;
/// Where code that cannot be moved is made for.
const FIXED: u32 = 0x10_0000;

/// What has to be known of a kernel to start it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Loading {
    /// Where its code begins in the file, in bytes.
    pub code: u64,
    /// Where the code has to lie; nothing where it may lie anywhere.
    pub fixed: Option<u32>,
    /// What its place is a multiple of, in bytes.
    pub alignment: u32,
    /// Memory that it needs from its place on, at least, in bytes.
    pub memory: u64,
    /// No byte of the initrd lies above that.
    pub initrd_limit: u32,
    /// Bytes of its arguments, at most.
    pub args: u32,
}

/// Reads it from the first bytes of a file that has so many.
///
/// # Errors
/// Why it cannot be started so, in words.
pub fn loading(head: &[u8], size: u64) -> Result<Loading, String> {
    let byte = |at: usize| head.get(at).copied();
    let (Some(mark), Some(version)) = (head.get(0x202..0x206), u16_at(head, 0x206)) else {
        return Err("it is too short for a Linux kernel".into());
    };
    if mark != b"HdrS" || u16_at(head, 0x1fe) != Some(0xaa55) {
        return Err("it is not a Linux kernel".into());
    }
    if version < 0x0203 || byte(0x211).is_none_or(|flags| flags & LOADED_HIGH == 0) {
        let [minor, major] = version.to_le_bytes();
        return Err(format!(
            "its boot protocol is {major}.{minor:02} or it is made for memory below 1 MiB, from where nothing is started here"
        ));
    }
    // Zero stands for four.
    let set_up = byte(HEADER).map_or(4, |sectors| if sectors == 0 { 4 } else { sectors });
    let code = u64::from(set_up).saturating_add(1).saturating_mul(SECTOR);
    let length = size.checked_sub(code).filter(|length| *length > 0);
    let length = length.ok_or_else(|| format!("it claims {code} bytes before its code, and has {size}"))?;
    let can_move = version >= 0x0205 && byte(0x234) == Some(1);
    let said = if version >= 0x020a { u32_at(head, 0x260).map(u64::from) } else { None };
    // A kernel from before that field unpacks itself behind its own code.
    let memory = said.unwrap_or_else(|| length.saturating_mul(4)).max(length);
    let limit = u32_at(head, 0x22c).filter(|limit| *limit > 0).unwrap_or(0x37ff_ffff);
    let args = if version >= 0x0206 { u32_at(head, 0x238).filter(|most| *most > 0) } else { None };
    let alignment = u32_at(head, 0x230).filter(|alignment| can_move && alignment.is_power_of_two());
    Ok(Loading {
        code,
        fixed: (!can_move).then_some(FIXED),
        alignment: alignment.unwrap_or(4096),
        memory,
        initrd_limit: limit,
        args: args.unwrap_or(255).min(4095),
    })
}

/// What a kernel is handed: where everything lies, in bytes of memory.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Handed<'a> {
    /// Its code.
    pub code: u32,
    /// Its arguments, ended by NUL.
    pub args: u32,
    /// Its initrd, and how long that is.
    pub initrd: (u32, u32),
    /// Ranges of memory: start and length in bytes, and what each is, by the number that the firmware gave.
    pub memory: &'a [(u64, u64, u32)],
}

/// `boot_params` for a kernel with this head.
pub fn params(head: &[u8], handed: &Handed<'_>) -> [u8; PARAMS] {
    let mut made = [0; PARAMS];
    let mut put = |at: usize, bytes: &[u8]| {
        if let Some(room) = at.checked_add(bytes.len()).and_then(|end| made.get_mut(at..end)) {
            room.copy_from_slice(bytes);
        }
    };
    // The header's length stands behind its jump.
    let end = head.get(0x201).map_or(0x202, |length| usize::from(*length).saturating_add(0x202)).min(0x290);
    put(HEADER, head.get(HEADER..end).unwrap_or_default());
    // `screen_info`: mode 3, 80 columns, 25 rows of 16 lines, a VGA.
    put(0x06, &[3, 80]);
    put(0x0e, &[25, 1]);
    put(0x10, &16u16.to_le_bytes());
    // KiB above 1 MiB, for kernels that ask for no ranges.
    let above = handed.memory.iter().find(|(start, _, kind)| *start == 1 << 20 && *kind == 1);
    let above = above.map_or(0, |(_, length, _)| u32::try_from(length >> 10).unwrap_or(u32::MAX));
    put(0x02, &u16::try_from(above).unwrap_or(0xfc00).to_le_bytes());
    put(0x1e0, &above.to_le_bytes());
    // `vid_mode`: as it is. `type_of_loader`: none that has a number.
    put(0x1fa, &0xffffu16.to_le_bytes());
    put(0x210, &[0xff, head.get(0x211).copied().unwrap_or_default() | LOADED_HIGH]);
    put(0x214, &handed.code.to_le_bytes());
    put(0x218, &handed.initrd.0.to_le_bytes());
    put(0x21c, &handed.initrd.1.to_le_bytes());
    put(0x228, &handed.args.to_le_bytes());
    let mut count = 0u8;
    for (index, (start, length, kind)) in handed.memory.iter().take(128).enumerate() {
        let Some(at) = index.checked_mul(20).and_then(|at| at.checked_add(0x2d0)) else { break };
        put(at, &[&start.to_le_bytes()[..], &length.to_le_bytes(), &kind.to_le_bytes()].concat());
        count = count.saturating_add(1);
    }
    put(0x1e8, &[count]);
    made
}

/// Where the header says that its code is better put, of kernels that may be moved (`pref_address`).
pub fn preferred(head: &[u8]) -> Option<u64> {
    (u16_at(head, 0x206)? >= 0x020a).then(|| u64_at(head, 0x258)).flatten()
}

#[cfg(test)]
mod tests {
    use super::*;
    use alloc::vec;
    use alloc::vec::Vec;
    use proptest::prelude::*;

    fn head(version: u16) -> Vec<u8> {
        let mut head = vec![0; 0x400];
        head[HEADER] = 3;
        head[0x1fe..0x206].copy_from_slice(b"\x55\xaa\xeb\x66HdrS");
        head[0x206..0x208].copy_from_slice(&version.to_le_bytes());
        head[0x211] = 1;
        head[0x22c..0x230].copy_from_slice(&0x7fff_ffffu32.to_le_bytes());
        head[0x230..0x234].copy_from_slice(&0x20_0000u32.to_le_bytes());
        head[0x234] = 1;
        head[0x238..0x23c].copy_from_slice(&2047u32.to_le_bytes());
        head[0x260..0x264].copy_from_slice(&0x300_0000u32.to_le_bytes());
        head
    }

    #[test]
    fn a_kernel_says_what_it_needs() {
        let new = loading(&head(0x20f), 9_000_000).unwrap();
        let expected = Loading {
            code: 2048,
            fixed: None,
            alignment: 0x20_0000,
            memory: 0x300_0000,
            initrd_limit: 0x7fff_ffff,
            args: 2047,
        };
        assert_eq!(new, expected);
        let old = loading(&head(0x204), 10_048).unwrap();
        assert_eq!((old.fixed, old.memory, old.args), (Some(FIXED), 32_000, 255));
        assert!(loading(&head(0x202), 9_000_000).is_err(), "made for low memory");
        assert!(loading(&head(0x20f), 2048).is_err(), "no code behind its head");
        assert!(loading(&head(0x20f)[..0x205], 9_000_000).is_err());
    }

    #[test]
    fn it_is_handed_what_it_reads() {
        let head = head(0x20f);
        let memory = [(0, 0x9_fc00, 1), (1 << 20, 255 << 20, 1)];
        let handed = Handed { code: 0x100_0000, args: 0x9_1000, initrd: (0x700_0000, 77), memory: &memory };
        let made = params(&head, &handed);
        assert_eq!(made[0x200..0x210], head[0x200..0x210]);
        assert_eq!((made[0x210], made[0x1e8]), (0xff, 2));
        assert_eq!(u32_at(&made, 0x218), Some(0x700_0000));
        assert_eq!(u64_at(&made, 0x2d0 + 20), Some(1 << 20));
        assert_eq!(u32_at(&made, 0x1e0), Some(255 << 10));
    }

    proptest! {
        #[test]
        fn spoiled_heads_never_panic(spoiled in prop::collection::vec((0usize..0x400, any::<u8>()), 1..20), size: u64) {
            let mut head = head(0x20f);
            for (at, value) in spoiled {
                head[at] = value;
            }
            if let Ok(found) = loading(&head, size) {
                prop_assert!(found.code < size && found.memory > 0 && found.args <= 4095);
                params(&head, &Handed { code: 0, args: 0, initrd: (0, 0), memory: &[] });
            }
        }
    }
}
