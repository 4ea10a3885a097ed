//! Starting what was chosen. Everything here may fail: then the menu is back, with the reason.

mod initrd;

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use signpost_disk::file_system::FileSystem;
use signpost_disk::inside;
use signpost_firmware::device_path::{DevicePath, Node};
use signpost_firmware::image::linux;
use signpost_firmware::image::loading;
use signpost_firmware::start::Program;
use signpost_firmware::ucs2::Ucs2;
use signpost_menu::resolve::{StartTarget, Surroundings};
use signpost_place::at_boot::PROGRAM_HEAD;
use uefi::boot::{self, LoadImageSource};
use uefi::proto::BootPolicy;
use uefi::proto::loaded_image::LoadedImage;
use uefi::{Handle, Status};

use crate::machine::{Machine, OURS};
use crate::power;
use initrd::{InitrdOffer, Part};

/// No kernel or initrd is longer, in bytes.
const MAX_FILE: usize = 1 << 30;
/// Starts it; comes back with the reason why it is not running.
pub fn start(machine: &Machine, target: &StartTarget, args: Option<&str>) -> String {
    let outcome = match target {
        StartTarget::Program { volume, path, args } => program(machine, *volume, path, args),
        StartTarget::Linux { volume, kernel, initrds, args: own, .. } => machine
            .file_system(*volume)
            .and_then(|fs| linux(machine, (*volume, fs), kernel, initrds, args.unwrap_or(own))),
        StartTarget::Image { volume, image, kernel, initrds, args: own } => {
            let inner = machine.file_system(*volume).and_then(|fs| {
                inside::with_path(fs, image, kernel).map_err(|error| format!("{image}: {error}"))
            });
            inner.and_then(|fs| linux(machine, (*volume, fs.as_ref()), kernel, initrds, args.unwrap_or(own)))
        }
        StartTarget::FirmwareEntry { number, handover: true } => option(machine, *number),
        StartTarget::FirmwareEntry { number, .. } => Err(power::into_option(*number)),
        StartTarget::Sector { .. } => Err("UEFI firmware starts no boot sectors".into()),
        StartTarget::BuiltIn | StartTarget::Group => Err("it starts nothing".into()),
    };
    match outcome {
        Ok(()) => "it came back without an error".into(),
        Err(why) => why,
    }
}

fn program(machine: &Machine, volume: usize, path: &str, args: &str) -> Result<(), String> {
    let fs = machine.file_system(volume)?;
    let head = fs.read_head(path, PROGRAM_HEAD).map_err(|error| error.to_string())?;
    let size = fs.metadata(path).map_err(|error| error.to_string())?.size;
    check(&head, size, path)?;
    let device_path = file_path(machine, volume, path)?;
    let image = if machine.volumes[volume].is_fat {
        load_by_path(&device_path)?
    } else {
        let bytes = fs.read(path, MAX_FILE).map_err(|error| error.to_string())?;
        load_from_buffer(&bytes, &device_path)?
    };
    Ok(run(image, args)?)
}

/// A kernel and its initrds from a file system; the kernel learns which volume it came from.
fn linux(
    machine: &Machine,
    (volume, fs): (usize, &dyn FileSystem),
    kernel: &str,
    initrds: &[String],
    args: &str,
) -> Result<(), String> {
    let bytes = fs.read(kernel, MAX_FILE).map_err(|error| error.to_string())?;
    check(&bytes, bytes.len() as u64, kernel)?;
    let header = linux::decode(bytes.get(..linux::HEAD_LEN).unwrap_or(&bytes))
        .ok_or_else(|| format!("{kernel} is not a Linux kernel"))?;
    let stub = header.efi_stub.ok_or_else(|| format!("{kernel} has no EFI stub"))?;
    if stub.version.0 < 1 && !initrds.is_empty() {
        return Err(format!(
            "{kernel} has an EFI stub of version {}.{}, which cannot take an initrd from here",
            stub.version.0, stub.version.1
        ));
    }
    let mut parts = Vec::new();
    for path in initrds {
        let size = fs.metadata(path).map_err(|error| error.to_string())?.size;
        let size = usize::try_from(size).ok().filter(|size| *size <= MAX_FILE);
        parts.push(Part { fs, path, size: size.ok_or_else(|| format!("{path} is longer than any initrd"))? });
    }
    let initrd_size = parts.iter().map(|part| part.size as u64).sum::<u64>();
    // Offered until the kernel is back: then it must go, or the next kernel would take it.
    let _offer = if parts.is_empty() { None } else { Some(InitrdOffer::new(parts)?) };
    let device_path = file_path(machine, volume, kernel)?;
    let size = bytes.len() as u64 + initrd_size;
    let started = load_from_buffer(&bytes, &device_path).and_then(|image| run(image, args));
    started.map_err(|fault| match fault {
        Fault::Status(Status::OUT_OF_RESOURCES) => {
            format!(
                "there is not enough memory for it: kernel and initrds take {} MiB",
                size.div_ceil(1 << 20)
            )
        }
        fault => fault.into(),
    })
}

/// A load option, started directly.
fn option(machine: &Machine, number: u16) -> Result<(), String> {
    let option = machine.boot.options.get(&number).ok_or("there is no such entry")?;
    let option = option.decoded.as_ref().map_err(ToString::to_string)?;
    // Options name a partition without the controllers before it, which only the firmware's own start completes.
    let seen = machine.load_options().into_iter().find(|seen| seen.number == number);
    let path = match seen.and_then(|seen| seen.target) {
        Some((volume, path)) => file_path(machine, volume, &path)?,
        None => option.path.clone(),
    };
    let image = load_by_path(&path)?;
    Ok(run_with_data(image, &option.optional_data)?)
}

/// The device path of a file: its volume's, then the file.
fn file_path(machine: &Machine, volume: usize, path: &str) -> Result<DevicePath, String> {
    let volume = machine.volumes.get(volume).ok_or("there is no such volume")?;
    let mut nodes = volume.path.nodes().to_vec();
    nodes.push(Node::file_path(&path.replace('/', "\\")));
    Ok(DevicePath::new(nodes))
}

/// What the firmware would refuse without saying why, or stand still in.
fn check(head: &[u8], size: u64, path: &str) -> Result<(), String> {
    match loading::becomes(head, size, OURS) {
        Program::Unfit(why) | Program::Hangs(why) => Err(format!("{path}: {why}")),
        Program::Missing | Program::CannotTell(_) | Program::Starts => Ok(()),
    }
}

/// Why the firmware does not start something.
enum Fault {
    Status(Status),
    Other(&'static str),
}

impl From<Fault> for String {
    fn from(fault: Fault) -> Self {
        match fault {
            Fault::Status(status) => words(status),
            Fault::Other(why) => why.into(),
        }
    }
}

impl From<uefi::Error> for Fault {
    fn from(error: uefi::Error) -> Self {
        Self::Status(error.status())
    }
}

fn load_by_path(path: &DevicePath) -> Result<Handle, Fault> {
    let bytes = path.encode();
    let device_path: &uefi::proto::device_path::DevicePath =
        bytes.as_slice().try_into().map_err(|_| Fault::Other("its device path is not valid"))?;
    let source = LoadImageSource::FromDevicePath { device_path, boot_policy: BootPolicy::ExactMatch };
    Ok(boot::load_image(boot::image_handle(), source)?)
}

fn load_from_buffer(buffer: &[u8], path: &DevicePath) -> Result<Handle, Fault> {
    let bytes = path.encode();
    let file_path: Option<&uefi::proto::device_path::DevicePath> = bytes.as_slice().try_into().ok();
    let source = LoadImageSource::FromBuffer { buffer, file_path };
    Ok(boot::load_image(boot::image_handle(), source)?)
}

fn run(image: Handle, args: &str) -> Result<(), Fault> {
    let data = if args.is_empty() { Vec::new() } else { Ucs2::from(args).to_bytes_terminated() };
    run_with_data(image, &data)
}

fn run_with_data(image: Handle, data: &[u8]) -> Result<(), Fault> {
    {
        let mut loaded = boot::open_protocol_exclusive::<LoadedImage>(image)?;
        let length = u32::try_from(data.len()).map_err(|_| Fault::Other("its arguments are too long"))?;
        // SAFETY: the data outlives the image's run: it is borrowed until this function ends.
        unsafe { loaded.set_load_options(data.as_ptr(), length) };
    }
    Ok(boot::start_image(image)?)
}

/// A status in words.
fn words(status: Status) -> String {
    match status {
        Status::ACCESS_DENIED | Status::SECURITY_VIOLATION => "refused by Secure Boot".into(),
        Status::OUT_OF_RESOURCES => "there is not enough memory for it".into(),
        Status::NOT_FOUND => "its file or volume is not there".into(),
        Status::UNSUPPORTED => "the firmware cannot load it: another kind of program".into(),
        Status::LOAD_ERROR => "the firmware cannot load it: the file is broken".into(),
        Status::ABORTED => "it gave up".into(),
        status => format!("it ended with {status}"),
    }
}
