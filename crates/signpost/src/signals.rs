//! Being stopped: between two writes, never within one.

use std::io;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, LazyLock};

use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};

static STOPPED: LazyLock<Arc<AtomicBool>> = LazyLock::new(Arc::default);

/// From now on signals that would end the program are only noted: what is being written is written to its end.
///
/// # Errors
/// Where the kernel refuses.
pub fn watch() -> io::Result<()> {
    for signal in [SIGINT, SIGTERM, SIGHUP] {
        signal_hook::flag::register(signal, STOPPED.clone())?;
    }
    Ok(())
}

/// Whether one came.
pub fn is_interrupted() -> bool {
    STOPPED.load(Ordering::Relaxed)
}
