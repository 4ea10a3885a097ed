//! What firmware's loader makes of a program (UEFI 2.10, 2.1.1 and 7.4.1, as the open-source firmware carries it out).

use alloc::format;
use alloc::string::{String, ToString};

use super::pe::{MachineType, Pe};
use crate::start::Program;

/// Magic of an optional header with addresses of 32 bits.
const PE32: u16 = 0x10b;
/// Magic of an optional header with addresses of 64 bits.
const PE32_PLUS: u16 = 0x20b;
/// Data directories that an optional header has at most.
const MAX_DIRECTORIES: u32 = 16;
/// Bytes of a section's header.
const SECTION_HEADER: u64 = 40;
/// Bytes that no PC's firmware has in one piece for one program.
const MAX_IMAGE: u64 = 1 << 30;
/// `Subsystem` of an application, a driver of the boot services, a driver of the runtime.
const APPLICATION: u16 = 10;
const BOOT_DRIVER: u16 = 11;
const RUNTIME_DRIVER: u16 = 12;

/// What becomes of a program with this start and this length in bytes on firmware that runs programs for `machine`; Secure Boot
/// not asked.
pub fn becomes(head: &[u8], size: u64, machine: MachineType) -> Program {
    if head.is_empty() {
        return Program::Unfit("the file is empty".into());
    }
    let pe = match Pe::decode(head) {
        Ok(pe) => pe,
        Err(fault) => return Program::Unfit(fault.to_string()),
    };
    if pe.machine != machine {
        return Program::Unfit(format!("it is built for {}, this machine is {machine}", pe.machine));
    }
    match pe.refusal(size) {
        Some(why) => Program::Unfit(why),
        None if pe.hangs() => Program::Hangs("its entry point lies in none of its sections".into()),
        None => Program::Starts,
    }
}

impl Pe {
    /// Why the firmware's loader refuses a program of this length in bytes.
    pub fn refusal(&self, size: u64) -> Option<String> {
        let fields = &self.loading;
        let table_end = u64::from(fields.section_table).saturating_add(
            SECTION_HEADER.saturating_mul(u64::try_from(self.sections.len()).unwrap_or(u64::MAX)),
        );
        let headers = u64::from(self.signing.header_size);
        let image = u64::from(fields.image_size);
        let magic = if self.machine == MachineType::IA32 { PE32 } else { PE32_PLUS };
        let expected_header =
            fields.directories.checked_mul(8).and_then(|length| length.checked_add(fields.fixed_size));
        Some(match () {
            () if fields.magic != magic => {
                format!("its optional header has the magic {:#x}, not {magic:#x}", fields.magic)
            }
            () if fields.directories > MAX_DIRECTORIES => {
                format!("it claims {} data directories", fields.directories)
            }
            () if expected_header != Some(fields.optional_size) => {
                format!(
                    "its optional header is {} bytes long, which its {} data directories do not make",
                    fields.optional_size, fields.directories
                )
            }
            () if headers < table_end || headers > size => {
                format!(
                    "it claims headers of {headers} bytes; the file has {size} bytes, {table_end} of them headers"
                )
            }
            () if image <= headers || image > MAX_IMAGE => {
                format!("it claims an image of {image} bytes")
            }
            () if fields.section_alignment == 0 => "its sections are aligned to nothing".into(),
            () if fields.has_no_relocations => {
                "it has no relocations, and the firmware puts it where there is room".into()
            }
            () if fields.subsystem == BOOT_DRIVER || fields.subsystem == RUNTIME_DRIVER => {
                "it is a driver, which no boot entry starts".into()
            }
            () if fields.subsystem != APPLICATION => {
                format!("its subsystem is {}, and not that of EFI applications", fields.subsystem)
            }
            () => return self.certificates_refused(size).or_else(|| self.section_refused(size, image)),
        })
    }

    fn certificates_refused(&self, size: u64) -> Option<String> {
        let (offset, length) = self.signing.certificates?;
        let end = u64::from(offset).saturating_add(length.into());
        (end > size)
            .then(|| format!("its certificate table ends at byte {end}, the file at {size}: it is cut short"))
    }

    fn section_refused(&self, size: u64, image: u64) -> Option<String> {
        self.sections.iter().find_map(|section| {
            let end = u64::from(section.offset).saturating_add(section.raw_size.into());
            if section.raw_size > 0 && end > size {
                return Some(format!(
                    "its section {} ends at byte {end}, the file at {size}: it is cut short",
                    section.name
                ));
            }
            let headers = self.signing.header_size;
            if section.raw_size > 0 && (section.address < headers || section.offset < headers) {
                return Some(format!("its section {} lies within its headers", section.name));
            }
            let end = u64::from(section.address).saturating_add(section.memory_size.max(section.size).into());
            (end > image).then(|| format!("its section {} lies outside of its image", section.name))
        })
    }

    /// Whether it would be started where nothing of it stands.
    fn hangs(&self) -> bool {
        let entry = u64::from(self.loading.entry_point);
        !self.sections.iter().any(|section| {
            let start = u64::from(section.address);
            section.raw_size > 0 && (start..start.saturating_add(section.raw_size.into())).contains(&entry)
        })
    }
}
