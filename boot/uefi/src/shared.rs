//! What handles offer, used beside the firmware's own drivers.

use uefi::boot::{self, OpenProtocolAttributes, OpenProtocolParams, ScopedProtocol};
use uefi::proto::ProtocolPointer;
use uefi::{Handle, Result};

/// Opens a handle's protocol without taking it from who holds it (`GET_PROTOCOL`, UEFI specification, 7.3): the console
/// goes on holding its keyboards, drivers their disks.
pub fn open<P: ProtocolPointer + ?Sized>(handle: Handle) -> Result<ScopedProtocol<P>> {
    let params = OpenProtocolParams { handle, agent: boot::image_handle(), controller: None };
    // SAFETY: this program alone runs, without threads. It asks devices for keys and bytes and copies paths, none of
    // which changes what their holders have, and no handle is taken away meanwhile.
    unsafe { boot::open_protocol(params, OpenProtocolAttributes::GetProtocol) }
}
