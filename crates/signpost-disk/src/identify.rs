//! What drives say of themselves when they are asked: their serials, as the running system's device manager writes them.

use alloc::string::String;

/// The serial in the data structure Identify Controller (NVM Express base specification 2.0, 5.17.2.1, `SN`).
pub fn nvme_serial(controller: &[u8]) -> Option<String> {
    serial(controller.get(4..24)?.iter().copied())
}

/// The serial in the answer to IDENTIFY DEVICE (ACS-3, 7.12.7.10): words 10 to 19, two characters in each, the first one in
/// the higher byte.
pub fn ata_serial(identify: &[u8]) -> Option<String> {
    let words = identify.get(20..40)?.chunks_exact(2);
    serial(words.flat_map(|word| word.iter().rev().copied()))
}

/// The serial in the page of vital product data that holds it, 80h (SPC-4, 7.8.15).
pub fn scsi_serial(page: &[u8]) -> Option<String> {
    const UNIT_SERIAL_NUMBER: u8 = 0x80;
    let length = match page {
        [_, UNIT_SERIAL_NUMBER, high, low, ..] => u16::from_be_bytes([*high, *low]),
        _ => return None,
    };
    serial(page.get(4..)?.get(..usize::from(length))?.iter().copied())
}

/// Printable characters without what fills them up; spaces within are one underscore, as the device manager has it.
fn serial(bytes: impl Iterator<Item = u8>) -> Option<String> {
    let mut text = String::new();
    let mut is_apart = false;
    for byte in bytes.take_while(|byte| *byte != 0) {
        match byte {
            b' ' => is_apart = !text.is_empty(),
            b'!'..=b'~' => {
                if core::mem::take(&mut is_apart) {
                    text.push('_');
                }
                text.push(char::from(byte));
            }
            _ => return None,
        }
    }
    Some(text).filter(|text| !text.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;
    use alloc::vec;
    use alloc::vec::Vec;

    #[test]
    fn a_serial_stands_where_each_kind_of_drive_has_it() {
        let mut controller = vec![0; 4096];
        controller[4..24].copy_from_slice(b"PTR 0071-K          ");
        assert_eq!(nvme_serial(&controller).as_deref(), Some("PTR_0071-K"));
        let mut identify = vec![0; 512];
        let swapped: Vec<u8> = b"          CRM-1     ".chunks(2).flat_map(|two| [two[1], two[0]]).collect();
        identify[20..40].copy_from_slice(&swapped);
        assert_eq!(ata_serial(&identify).as_deref(), Some("CRM-1"));
        let page = [&[0, 0x80, 0, 6][..], b" SND-1"].concat();
        assert_eq!(scsi_serial(&page).as_deref(), Some("SND-1"));
    }

    #[test]
    fn what_is_cut_off_of_another_kind_or_not_to_be_printed_is_no_serial() {
        assert_eq!(nvme_serial(&[0x20; 23]), None);
        assert_eq!(ata_serial(&[b'A'; 39]), None);
        assert_eq!(scsi_serial(&[0, 0x83, 0, 1, b'A']), None);
        assert_eq!(scsi_serial(&[0, 0x80, 0xff, 0xff, b'A']), None);
        assert_eq!(scsi_serial(&[0, 0x80, 0, 2, b'A', 0x1b]), None);
        assert_eq!(scsi_serial(&[0, 0x80, 0, 2, b' ', b' ']), None);
    }
}
