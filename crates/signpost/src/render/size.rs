//! Sizes for people.

/// Bytes in binary units: `64 MiB`, `1.5 GiB`.
pub fn human(bytes: u64) -> String {
    const UNITS: [&str; 6] = ["B", "KiB", "MiB", "GiB", "TiB", "PiB"];
    let mut unit = 0;
    let mut scale = 1u64;
    while unit + 1 < UNITS.len() && bytes / scale >= 1024 {
        scale *= 1024;
        unit += 1;
    }
    let tenths = u128::from(bytes) * 10 / u128::from(scale);
    if tenths >= 100 || tenths.is_multiple_of(10) {
        format!("{} {}", tenths / 10, UNITS[unit])
    } else {
        format!("{}.{} {}", tenths / 10, tenths % 10, UNITS[unit])
    }
}

#[cfg(test)]
mod tests {
    use super::human;

    #[test]
    fn sizes_are_short() {
        let cases =
            [(0, "0 B"), (1023, "1023 B"), (1536, "1.5 KiB"), (64 << 20, "64 MiB"), (u64::MAX, "16383 PiB")];
        for (bytes, text) in cases {
            assert_eq!(human(bytes), text);
        }
    }
}
