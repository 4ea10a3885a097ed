//! EFI programs and Linux kernels with true headers, small enough to be written byte by byte.
//!
//! A program prints `STARTED` and its title through the firmware's console, then powers the machine off or
//! gives up; so real firmware that starts it says what it started.

use crate::version_block::version_block;

const FILE_ALIGNMENT: usize = 0x200;
const SECTION_ALIGNMENT: usize = 0x1000;
const HEADERS: usize = 0x400; // bytes
const PE_OFFSET: usize = 0x40;
const MACHINE_X64: u16 = 0x8664;

/// What a program does once it has said its title.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ending {
    /// It powers the machine off.
    PowerOff,
    /// It returns `EFI_ABORTED`, so that the firmware goes on to its next entry.
    GiveUp,
}

/// A program to be made.
#[derive(Clone, Debug)]
pub struct Program {
    title: String,
    ending: Ending,
    machine: u16,
    signed: bool,
    strings: Vec<(&'static str, String)>,
    sections: Vec<(&'static str, Vec<u8>)>,
}

impl Program {
    /// A program that says this title and powers off.
    pub fn new(title: &str) -> Self {
        Self {
            title: title.into(),
            ending: Ending::PowerOff,
            machine: MACHINE_X64,
            signed: false,
            strings: Vec::new(),
            sections: Vec::new(),
        }
    }

    /// With another ending.
    #[must_use]
    pub fn ending(mut self, ending: Ending) -> Self {
        self.ending = ending;
        self
    }

    /// Built for another machine, by its PE number.
    #[must_use]
    pub fn machine(mut self, machine: u16) -> Self {
        self.machine = machine;
        self
    }

    /// With a string in its version resource, such as `ProductName`.
    #[must_use]
    pub fn string(mut self, key: &'static str, value: &str) -> Self {
        self.strings.push((key, value.into()));
        self
    }

    /// With a section, such as `.osrel`.
    #[must_use]
    pub fn section(mut self, name: &'static str, contents: &[u8]) -> Self {
        self.sections.push((name, contents.to_vec()));
        self
    }

    /// With the section by which our boot program says what it is.
    #[must_use]
    pub fn boot_program(self) -> Self {
        self.section(".sgnpost", b"signpost boot program, format 1")
    }

    /// With a certificate table, whose contents mean nothing.
    #[must_use]
    pub fn signed(mut self) -> Self {
        self.signed = true;
        self
    }

    /// The file's bytes.
    pub fn build(&self) -> Vec<u8> {
        self.layout(None)
    }

    fn layout(&self, kernel: Option<&Kernel>) -> Vec<u8> {
        let mut sections = vec![(".text", code(&self.title, self.ending))];
        sections.extend(self.sections.iter().cloned());
        let mut resources = None;
        if !self.strings.is_empty() {
            let address = section_address(&sections, sections.len());
            let contents = resource_section(address, &self.strings);
            resources = Some((address, contents.len()));
            sections.push((".rsrc", contents));
        }
        let mut file = vec![0; HEADERS];
        let mut table = Vec::new();
        for (index, (name, contents)) in sections.iter().enumerate() {
            table.extend(section_header(name, section_address(&sections, index), file.len(), contents.len()));
            file.extend(contents);
            file.resize(file.len().next_multiple_of(FILE_ALIGNMENT), 0);
        }
        let image_end = section_address(&sections, sections.len());
        let certificates = self.signed.then_some((file.len(), 16));
        if self.signed {
            file.extend([16, 0, 0, 0, 0, 2, 2, 0, 0, 0, 0, 0, 0, 0, 0, 0]);
        }
        let version = kernel.map_or((0, 0), |kernel| kernel.stub_version);
        let mut headers = b"MZ".to_vec();
        headers.resize(0x3c, 0);
        headers.extend((PE_OFFSET as u32).to_le_bytes());
        headers.extend(self.pe_headers(sections.len(), image_end, version, resources, certificates));
        headers.extend(table);
        file[..headers.len()].copy_from_slice(&headers);
        if let Some(kernel) = kernel {
            kernel.put_header(&mut file);
        }
        file
    }

    /// PE mark, COFF header and optional header (PE32+).
    fn pe_headers(
        &self,
        sections: usize,
        image_end: usize,
        version: (u16, u16),
        resources: Option<(usize, usize)>,
        certificates: Option<(usize, usize)>,
    ) -> Vec<u8> {
        let mut bytes = b"PE\0\0".to_vec();
        put16(&mut bytes, &[self.machine, sections as u16]);
        put32(&mut bytes, &[0, 0, 0]);
        put16(&mut bytes, &[240, 0x0022]); // length of what follows; executable, large addresses
        put16(&mut bytes, &[0x020b, 0]);
        put32(&mut bytes, &[0, 0, 0, SECTION_ALIGNMENT as u32, SECTION_ALIGNMENT as u32]);
        put32(&mut bytes, &[0, 0]); // image base
        put32(&mut bytes, &[SECTION_ALIGNMENT as u32, FILE_ALIGNMENT as u32]);
        put16(&mut bytes, &[0, 0, version.0, version.1, 0, 0]);
        put32(&mut bytes, &[0, image_end as u32, HEADERS as u32, 0]);
        put16(&mut bytes, &[10, 0]); // EFI application
        put32(&mut bytes, &[0; 8]); // stack and heap sizes
        put32(&mut bytes, &[0, 16]);
        for index in 0..16 {
            let directory = match index {
                2 => resources,
                4 => certificates,
                _ => None,
            };
            let (address, size) = directory.unwrap_or((0, 0));
            put32(&mut bytes, &[address as u32, size as u32]);
        }
        bytes
    }
}

/// A Linux kernel to be made: it stands in for one with an EFI stub.
#[derive(Clone, Debug)]
pub struct Kernel {
    /// The release its header names.
    pub version: String,
    /// Version of its EFI stub.
    pub stub_version: (u16, u16),
}

impl Kernel {
    /// A kernel of this release, whose stub takes an initrd from `LoadFile2`.
    pub fn new(version: &str) -> Self {
        Self { version: version.into(), stub_version: (3, 0) }
    }

    /// The file's bytes; started as an EFI program it says this title.
    pub fn build(&self, title: &str) -> Vec<u8> {
        Program::new(title).layout(Some(self))
    }

    /// The boot-protocol header at 0x1f1, behind the PE headers and before the first section.
    fn put_header(&self, file: &mut [u8]) {
        let text = format!("{} (build@kestrel) #1 SMP\0", self.version);
        file[0x1f1] = 1; // set-up sectors
        file[0x1fe..0x200].copy_from_slice(&[0x55, 0xaa]);
        file[0x200..0x202].copy_from_slice(&[0xeb, 0x66]);
        file[0x202..0x206].copy_from_slice(b"HdrS");
        file[0x206..0x208].copy_from_slice(&0x020fu16.to_le_bytes());
        file[0x20e..0x210].copy_from_slice(&0x100u16.to_le_bytes());
        file[0x236..0x238].copy_from_slice(&0x002bu16.to_le_bytes());
        file[0x300..0x300 + text.len()].copy_from_slice(text.as_bytes());
    }
}

/// A made-up system from its built program: with this title, and as a kernel where one is given.
///
/// # Errors
/// Where the program is none, or has no room for a kernel's header.
pub fn made_up(built: &[u8], title: &str, kernel: Option<&Kernel>) -> Result<Vec<u8>, String> {
    const MARK: &[u8] = b"MADE-UP-TITLE:";
    const TITLE_LEN: usize = 80;
    let mut file = built.to_vec();
    let mark = file.windows(MARK.len()).position(|window| window == MARK).ok_or("no made-up system")?;
    let at = mark + MARK.len();
    let title = title.as_bytes();
    if title.len() >= TITLE_LEN {
        return Err(format!("the title is longer than {TITLE_LEN} bytes"));
    }
    file[at..at + title.len()].copy_from_slice(title);
    if let Some(kernel) = kernel {
        make_room(&mut file)?;
        let version = PE_OFFSET + 24 + 44;
        file[version..version + 2].copy_from_slice(&kernel.stub_version.0.to_le_bytes());
        file[version + 2..version + 4].copy_from_slice(&kernel.stub_version.1.to_le_bytes());
        kernel.put_header(&mut file);
    }
    Ok(file)
}

/// Moves the PE headers to the front, so that a kernel's header has its place behind them.
fn make_room(file: &mut [u8]) -> Result<(), String> {
    const SET_UP_HEADER: usize = 0x1f1;
    let word = |at: usize| u16::from_le_bytes([file[at], file[at + 1]]) as usize;
    let from = word(0x3c);
    let sections = word(from + 6);
    let length = 24 + word(from + 20) + 40 * sections;
    if PE_OFFSET + length > SET_UP_HEADER {
        return Err(format!("{sections} sections leave no room for a kernel's header"));
    }
    file.copy_within(from..from + length, PE_OFFSET);
    file[PE_OFFSET + length..HEADERS].fill(0);
    file[0x3c..0x40].copy_from_slice(&(PE_OFFSET as u32).to_le_bytes());
    Ok(())
}

/// x86_64 code: `ConOut->OutputString`, then `ResetSystem(EfiResetShutdown)` or a return.
fn code(title: &str, ending: Ending) -> Vec<u8> {
    let mut code = vec![
        0x53, // push rbx
        0x48, 0x83, 0xec, 0x20, // sub rsp, 32
        0x48, 0x89, 0xd3, // mov rbx, rdx (system table)
        0x48, 0x8b, 0x4a, 0x40, // mov rcx, [rdx+64] (ConOut)
        0x48, 0x8d, 0x15, 0, 0, 0, 0, // lea rdx, [rip+text]
        0xff, 0x51, 0x08, // call [rcx+8] (OutputString)
    ];
    let text_from = 19;
    code.extend(match ending {
        Ending::PowerOff => vec![
            0x48, 0x8b, 0x43, 0x58, // mov rax, [rbx+88] (runtime services)
            0xb9, 2, 0, 0, 0, // mov ecx, EfiResetShutdown
            0x31, 0xd2, // xor edx, edx
            0x45, 0x31, 0xc0, // xor r8d, r8d
            0x45, 0x31, 0xc9, // xor r9d, r9d
            0xff, 0x50, 0x68, // call [rax+104] (ResetSystem)
            0xf4, 0xeb, 0xfd, // hlt, and again
        ],
        Ending::GiveUp => vec![
            0x48, 0xb8, 21, 0, 0, 0, 0, 0, 0, 0x80, // mov rax, EFI_ABORTED
            0x48, 0x83, 0xc4, 0x20, // add rsp, 32
            0x5b, 0xc3, // pop rbx, ret
        ],
    });
    let distance = (code.len() - text_from) as u32;
    code[text_from - 4..text_from].copy_from_slice(&distance.to_le_bytes());
    let text = format!("\r\nSTARTED {title}\r\n\0");
    code.extend(text.encode_utf16().flat_map(u16::to_le_bytes));
    code
}

/// The resource directory: version, its name, its language, one data entry, the data.
fn resource_section(address: usize, strings: &[(&'static str, String)]) -> Vec<u8> {
    const TABLE: u32 = 24; // bytes of a directory with one entry
    const SUB_DIRECTORY: u32 = 0x8000_0000;
    let data = version_block(strings);
    let mut bytes = Vec::new();
    for (id, next) in [(16, SUB_DIRECTORY | TABLE), (1, SUB_DIRECTORY | (2 * TABLE)), (1033, 3 * TABLE)] {
        put32(&mut bytes, &[0, 0, 0]);
        put16(&mut bytes, &[0, 1]);
        put32(&mut bytes, &[id, next]);
    }
    let data_address = address + 3 * TABLE as usize + 16;
    put32(&mut bytes, &[data_address as u32, data.len() as u32, 0, 0]);
    bytes.extend(data);
    bytes
}

fn section_address(sections: &[(&str, Vec<u8>)], index: usize) -> usize {
    sections[..index]
        .iter()
        .fold(SECTION_ALIGNMENT, |at, (_, contents)| at + contents.len().next_multiple_of(SECTION_ALIGNMENT))
}

fn section_header(name: &str, address: usize, offset: usize, length: usize) -> Vec<u8> {
    let mut bytes = name.as_bytes().to_vec();
    bytes.resize(8, 0);
    let raw = length.next_multiple_of(FILE_ALIGNMENT);
    put32(&mut bytes, &[length as u32, address as u32, raw as u32, offset as u32, 0, 0, 0]);
    put32(&mut bytes, &[0xe000_0020]); // code, read, write, run
    bytes
}

fn put16(bytes: &mut Vec<u8>, values: &[u16]) {
    bytes.extend(values.iter().flat_map(|value| value.to_le_bytes()));
}

fn put32(bytes: &mut Vec<u8>, values: &[u32]) {
    bytes.extend(values.iter().flat_map(|value| value.to_le_bytes()));
}

#[cfg(test)]
mod tests {
    use super::*;
    use signpost_firmware::image::pe::{MachineType, Pe, PeFault};
    use signpost_firmware::image::{linux, version_resource};

    #[test]
    fn a_program_is_read_back_with_its_sections_and_strings() {
        let file = Program::new("Meridian Desktop 4")
            .section(".osrel", b"ID=meridian\n")
            .string("CompanyName", "Meridian Works")
            .string("ProductName", "Meridian Desktop")
            .string("ProductVersion", "4.2")
            .signed()
            .build();
        let pe = Pe::decode(&file).unwrap();
        assert_eq!((pe.machine, pe.is_signed), (MachineType::X64, true));
        assert_eq!(pe.section_bytes(&file, ".osrel"), Some(b"ID=meridian\n".as_slice()));
        let version = version_resource::decode(&pe, &file).unwrap();
        assert_eq!(version.company.as_deref(), Some("Meridian Works"));
        assert_eq!(version.product.as_deref(), Some("Meridian Desktop"));
        assert_eq!(version.product_version.as_deref(), Some("4.2"));
        assert_eq!(version.description, None);
    }

    #[test]
    fn a_kernel_is_a_kernel_and_a_program() {
        let file = Kernel { version: "6.9.4-2-larkspur".into(), stub_version: (1, 1) }.build("Larkspur");
        let kernel = linux::decode(&file).unwrap();
        assert_eq!(kernel.version.as_deref(), Some("6.9.4-2-larkspur"));
        assert_eq!(kernel.efi_stub.map(|stub| stub.version), Some((1, 1)));
        assert!(kernel.is_64_bit);
    }

    #[test]
    fn broken_programs_are_named() {
        let file = Program::new("x").build();
        assert_eq!(Pe::decode(b"#!/bin/sh").unwrap_err(), PeFault::NoMz);
        assert_eq!(Pe::decode(&file[..0x30]).unwrap_err(), PeFault::Short("no offset of the PE header"));
        assert_eq!(Pe::decode(&file[..0x50]).unwrap_err(), PeFault::Short("no COFF header"));
        assert_eq!(Pe::decode(&file[..0x100]).unwrap_err(), PeFault::Short("no optional header"));
        assert_eq!(Pe::decode(&file[..0x150]).unwrap_err(), PeFault::Short("no section headers"));
        let mut many = file;
        many[0x46] = 0xff;
        assert_eq!(Pe::decode(&many).unwrap_err(), PeFault::Sections(255));
    }

    /// Every byte of the headers and the resource, set to each of a few values, one at a time.
    #[test]
    fn spoiled_programs_never_panic() {
        let file = Program::new("x").string("ProductName", "Meridian").build();
        let resources = Pe::decode(&file).unwrap().section(".rsrc").unwrap().offset as usize;
        let mut readable = 0;
        for at in (0x3c..0x200).chain(resources..resources + 200) {
            for value in [0, 1, 0x7f, 0x80, 0xff] {
                let mut spoiled = file.clone();
                spoiled[at] = value;
                if let Ok(pe) = Pe::decode(&spoiled) {
                    readable += usize::from(version_resource::decode(&pe, &spoiled).is_some());
                }
            }
        }
        assert!(readable > 100, "most single bytes do not matter: {readable}");
    }
}
