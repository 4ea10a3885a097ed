//! Boot files: what stands under `/EFI` of every ESP, and kernels at its root.

use signpost_disk::file_system::VolumeError;
use signpost_facts::{BootFile, Hints, Role, VersionFacts, Volume, VolumeNumber};
use signpost_firmware::image::pe::{self, Pe};
use signpost_firmware::image::{linux, version_resource};
use signpost_menu::layouts::KernelName;
use signpost_place::VolumeReader;
use signpost_place::look::MAX_PROGRAM;

use super::said;

/// Folders below `/EFI` that are looked into, one in the other.
const MAX_DEPTH: usize = 4;
/// Boot files of one volume that are looked at.
const MAX_FILES: usize = 400;

/// Every boot file of a volume that firmware reads, or that holds kernels for it; their roles not yet told.
pub(crate) fn on_volume(reader: &VolumeReader, volume: &Volume) -> Vec<BootFile> {
    if !volume.is_fat && !volume.is_extended_boot {
        return Vec::new();
    }
    let mut paths = Vec::new();
    gather(reader, "/EFI", MAX_DEPTH, &mut paths);
    paths.extend(kernels_at_root(reader));
    paths.into_iter().map(|path| examine(reader, volume.number, path)).collect()
}

fn gather(reader: &VolumeReader, folder: &str, depth: usize, paths: &mut Vec<String>) {
    let Ok(items) = reader.plain(folder) else { return };
    for item in items {
        let path = format!("{folder}/{}", item.name);
        if paths.len() >= MAX_FILES {
            return;
        }
        if item.is_folder && depth > 1 {
            gather(reader, &path, depth - 1, paths);
        } else if !item.is_folder && (has_suffix(&item.name, ".efi") || KernelName::of(&item.name).is_some())
        {
            paths.push(path);
        }
    }
}

fn kernels_at_root(reader: &VolumeReader) -> Vec<String> {
    let items = reader.plain("/").unwrap_or_default();
    let kernels = items.into_iter().filter(|item| !item.is_folder && KernelName::of(&item.name).is_some());
    kernels.map(|item| format!("/{}", item.name)).collect()
}

fn has_suffix(name: &str, suffix: &str) -> bool {
    name.to_lowercase().ends_with(suffix)
}

fn examine(reader: &VolumeReader, volume: VolumeNumber, path: String) -> BootFile {
    let mut file = BootFile {
        volume,
        size: reader.metadata(&path).map_or(0, |found| found.size),
        path,
        sha256: None,
        architecture: None,
        is_signed: false,
        version: None,
        role: Role::Unfit,
        description: String::new(),
        system: None,
        also: Vec::new(),
        hints: Hints::default(),
    };
    match reader.read(&file.path, MAX_PROGRAM) {
        Ok(bytes) => look_inside(&mut file, &bytes),
        Err(VolumeError::TooLarge { most, .. }) => {
            file.hints.fault = Some(format!("longer than {most} bytes"));
        }
        Err(error) => file.hints.fault = Some(error.to_string()),
    }
    file
}

fn look_inside(file: &mut BootFile, bytes: &[u8]) {
    file.sha256 = Some(signpost_place::boot_program::sha256(bytes));
    let pe = match Pe::decode(bytes) {
        Ok(pe) => pe,
        Err(_) if bytes.is_empty() => {
            file.hints.fault = Some("the file is empty".into());
            return;
        }
        Err(fault) => {
            file.hints.fault = Some(fault.to_string());
            return;
        }
    };
    file.architecture = Some(pe.machine.to_string());
    file.hints.fault = pe.refusal(bytes.len() as u64).as_deref().map(said);
    file.is_signed = pe.is_signed;
    file.version = version_resource::decode(&pe, bytes).map(|found| VersionFacts {
        company: found.company.as_deref().map(said),
        product: found.product.as_deref().map(said),
        product_version: found.product_version.as_deref().map(said),
        description: found.description.as_deref().map(said),
    });
    let text = |name: &str| pe.section_bytes(bytes, name).map(pe::text);
    file.hints.os_release = text(".osrel");
    file.hints.uname = text(".uname").as_deref().map(said);
    file.hints.is_boot_program = signpost_place::boot_program::has_mark(&pe);
    file.hints.has_kernel_section = pe.section(".linux").is_some();
    file.hints.kernel = linux::decode(bytes.get(..linux::HEAD_LEN).unwrap_or(bytes));
    if let Some(kernel) = &mut file.hints.kernel {
        kernel.version = kernel.version.as_deref().map(said);
    }
}
