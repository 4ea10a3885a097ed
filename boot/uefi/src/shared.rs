//! What handles offer, used beside the firmware's own drivers.

use uefi::boot::{self, OpenProtocolAttributes, OpenProtocolParams, ScopedProtocol};
use uefi::proto::ProtocolPointer;
use uefi::proto::device_path::{DevicePath, DeviceSubType, DeviceType};
use uefi::{Handle, Result};

/// Whether a device is a serial line; none of what has no device path, as the console that stands for all.
pub fn is_serial(handle: Handle) -> Option<bool> {
    let path = open::<DevicePath>(handle).ok()?;
    let uart = (DeviceType::MESSAGING, DeviceSubType::MESSAGING_UART);
    Some(path.node_iter().any(|node| node.full_type() == uart))
}

/// Opens a handle's protocol without taking it from who holds it (`GET_PROTOCOL`, UEFI specification, 7.3): the console
/// goes on holding its keyboards, drivers their disks.
pub fn open<P: ProtocolPointer + ?Sized>(handle: Handle) -> Result<ScopedProtocol<P>> {
    let params = OpenProtocolParams { handle, agent: boot::image_handle(), controller: None };
    // SAFETY: this program alone runs, without threads. It asks devices for keys and bytes and copies paths, none of
    // which changes what their holders have, and no handle is taken away meanwhile.
    unsafe { boot::open_protocol(params, OpenProtocolAttributes::GetProtocol) }
}
