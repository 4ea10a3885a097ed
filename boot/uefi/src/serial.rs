//! Serials of drives, which firmware does not show: the drives are asked, where it passes commands on to them. It need not,
//! and a drive need not answer in time: then its disk has no serial.

use alloc::string::String;
use core::cell::UnsafeCell;
use core::ffi::c_void;
use core::ptr::{null, null_mut};

use signpost_disk::identify;
use uefi::boot;
use uefi::mem::AlignedBuffer;
use uefi::proto::device_path::DevicePath;
use uefi::proto::unsafe_protocol;
use uefi::{Handle, Status};
use uefi_raw::protocol::ata::{
    AtaCommandBlock, AtaPassThruCommandPacket, AtaPassThruCommandProtocol, AtaPassThruLength,
    AtaPassThruProtocol, AtaStatusBlock,
};
use uefi_raw::protocol::nvme::{
    NvmExpressCommand, NvmExpressCommandCdwValidity, NvmExpressCompletion, NvmExpressPassThruCommandPacket,
    NvmExpressPassThruProtocol, NvmExpressQueueType,
};
use uefi_raw::protocol::scsi::{
    ScsiIoDataDirection, ScsiIoHostAdapterStatus, ScsiIoProtocol, ScsiIoScsiRequestPacket, ScsiIoTargetStatus,
};

use crate::shared;

/// Half a second, in the units of 100 nanoseconds in which drives are waited for.
const PATIENCE: u64 = 5_000_000;
/// Alignment that every kind of controller takes, in bytes.
const ALIGN: usize = 4096;

/// `EFI_NVM_EXPRESS_PASS_THRU_PROTOCOL` (UEFI 2.10, 13.17).
#[repr(transparent)]
#[unsafe_protocol(NvmExpressPassThruProtocol::GUID)]
struct Nvme(UnsafeCell<NvmExpressPassThruProtocol>);

/// `EFI_ATA_PASS_THRU_PROTOCOL` (13.16).
#[repr(transparent)]
#[unsafe_protocol(AtaPassThruProtocol::GUID)]
struct Ata(UnsafeCell<AtaPassThruProtocol>);

/// `EFI_SCSI_IO_PROTOCOL` (15.4), which stands on the disk itself.
#[repr(transparent)]
#[unsafe_protocol(ScsiIoProtocol::GUID)]
struct Scsi(UnsafeCell<ScsiIoProtocol>);

/// The serial of a disk, by its handle.
pub fn of_disk(disk: Handle) -> Option<String> {
    nvme(disk).or_else(|| ata(disk)).or_else(|| scsi(disk))
}

/// Asked of the controller above the disk.
fn nvme(disk: Handle) -> Option<String> {
    const IDENTIFY: u32 = 6;
    const CONTROLLER: u32 = 1;
    const LENGTH: u32 = 4096;
    let path = shared::open::<DevicePath>(disk).ok()?;
    let controller = boot::locate_device_path::<Nvme>(&mut &*path).ok()?;
    let nvme = shared::open::<Nvme>(controller).ok()?;
    let mut buffer = zeroed(LENGTH as usize)?;
    let command = NvmExpressCommand {
        cdw0: IDENTIFY,
        flags: NvmExpressCommandCdwValidity::CDW_10.bits(),
        cdw10: CONTROLLER,
        ..NvmExpressCommand::default()
    };
    let mut completion = NvmExpressCompletion::default();
    let mut packet = NvmExpressPassThruCommandPacket {
        command_timeout: PATIENCE,
        transfer_buffer: buffer.ptr_mut().cast(),
        transfer_length: LENGTH,
        meta_data_buffer: null_mut(),
        meta_data_length: 0,
        queue_type: NvmExpressQueueType::ADMIN,
        nvme_cmd: &raw const command,
        nvme_completion: &raw mut completion,
    };
    // SAFETY: the protocol stays installed while its handle does; packet, command and buffer live until the call, which waits
    // for the drive since no event is given, returns; the buffer is as long as the packet says.
    let status = unsafe { ((*nvme.0.get()).pass_thru)(nvme.0.get(), 0, &raw mut packet, null_mut()) };
    answer(&buffer, status).and_then(identify::nvme_serial)
}

/// Asked of the controller above the disk, which knows its port by the device path.
fn ata(disk: Handle) -> Option<String> {
    const IDENTIFY_DEVICE: u8 = 0xec;
    const LENGTH: u32 = 512;
    let path = shared::open::<DevicePath>(disk).ok()?;
    let mut below: &DevicePath = &path;
    let controller = boot::locate_device_path::<Ata>(&mut below).ok()?;
    let ata = shared::open::<Ata>(controller).ok()?;
    let (mut port, mut multiplier) = (0, 0);
    // SAFETY: the protocol stays installed while its handle does; the path is one that firmware keeps, and two numbers are
    // written.
    let status = unsafe {
        ((*ata.0.get()).get_device)(
            ata.0.get(),
            below.as_ffi_ptr().cast(),
            &raw mut port,
            &raw mut multiplier,
        )
    };
    if status != Status::SUCCESS {
        return None;
    }
    let mut buffer = zeroed(LENGTH as usize)?;
    let mut status_block = zeroed(size_of::<AtaStatusBlock>())?;
    let command = AtaCommandBlock { command: IDENTIFY_DEVICE, sector_count: 1, ..AtaCommandBlock::default() };
    let mut packet = AtaPassThruCommandPacket {
        asb: status_block.ptr_mut().cast(),
        acb: &raw const command,
        timeout: PATIENCE,
        in_data_buffer: buffer.ptr_mut().cast(),
        out_data_buffer: null(),
        in_transfer_length: LENGTH,
        out_transfer_length: 0,
        protocol: AtaPassThruCommandProtocol::PIO_DATA_IN,
        length: AtaPassThruLength::BYTES,
    };
    // SAFETY: as for NVM Express; the status block is aligned as its controller wants it.
    let status =
        unsafe { ((*ata.0.get()).pass_thru)(ata.0.get(), port, multiplier, &raw mut packet, null_mut()) };
    answer(&buffer, status).and_then(identify::ata_serial)
}

/// Asked of the disk: the page of vital product data that holds its serial.
fn scsi(disk: Handle) -> Option<String> {
    const INQUIRY: u8 = 0x12;
    const OF_PAGE: u8 = 1;
    const UNIT_SERIAL_NUMBER: u8 = 0x80;
    const LENGTH: u8 = 255;
    let scsi = shared::open::<Scsi>(disk).ok()?;
    let mut buffer = zeroed(usize::from(LENGTH))?;
    let mut command = [INQUIRY, OF_PAGE, UNIT_SERIAL_NUMBER, 0, LENGTH, 0];
    let mut packet = ScsiIoScsiRequestPacket {
        timeout: PATIENCE,
        in_data_buffer: buffer.ptr_mut().cast(),
        out_data_buffer: null_mut(),
        sense_data: null_mut(),
        cdb: command.as_mut_ptr().cast::<c_void>(),
        in_transfer_length: u32::from(LENGTH),
        out_transfer_length: 0,
        cdb_length: command.len() as u8,
        data_direction: ScsiIoDataDirection::READ,
        host_adapter_status: ScsiIoHostAdapterStatus::default(),
        target_status: ScsiIoTargetStatus::default(),
        sense_data_length: 0,
    };
    // SAFETY: as for NVM Express.
    let status = unsafe { ((*scsi.0.get()).execute_scsi_command)(scsi.0.get(), &raw mut packet, null_mut()) };
    let is_good = packet.target_status == ScsiIoTargetStatus::GOOD;
    answer(&buffer, status).filter(|_| is_good).and_then(identify::scsi_serial)
}

fn zeroed(length: usize) -> Option<AlignedBuffer> {
    let mut buffer = AlignedBuffer::from_size_align(length, ALIGN).ok()?;
    // SAFETY: the buffer is this long, and nobody else has it yet.
    unsafe { buffer.ptr_mut().write_bytes(0, length) };
    Some(buffer)
}

/// What a drive has put into a buffer.
fn answer(buffer: &AlignedBuffer, status: Status) -> Option<&[u8]> {
    (status == Status::SUCCESS).then(|| buffer.as_slice())
}
