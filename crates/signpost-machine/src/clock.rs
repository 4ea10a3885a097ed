//! The time, as it is noted.

use signpost_disk::fat::Stamp;

/// The time, as files of a FAT carry it.
pub(crate) fn stamp() -> Stamp {
    let now = clock().to_zoned(jiff::tz::TimeZone::UTC).datetime();
    let small = |part: i8| u8::try_from(part).unwrap_or(0);
    Stamp::new(
        (i32::from(now.year()), small(now.month()), small(now.day())),
        (small(now.hour()), small(now.minute()), small(now.second())),
    )
}

/// The time, in UTC.
pub fn now() -> String {
    clock().strftime("%Y-%m-%d %H:%M:%S UTC").to_string()
}

/// The time; a clock may stand beyond all years that can be written.
pub fn clock() -> jiff::Timestamp {
    within(std::time::SystemTime::now())
}

fn within(time: std::time::SystemTime) -> jiff::Timestamp {
    let is_late = time > std::time::SystemTime::UNIX_EPOCH;
    let edge = if is_late { jiff::Timestamp::MAX } else { jiff::Timestamp::MIN };
    jiff::Timestamp::try_from(time).unwrap_or(edge)
}
