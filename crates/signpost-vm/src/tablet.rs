//! The emulator's tablet, whose places and button are in our hands.

use std::path::Path;

use serde_json::{Value, json};

use crate::Result;
use crate::control::Control;

/// The emulator's tablet, over its monitor for programs.
pub struct Tablet(Control);

impl Tablet {
    /// Arguments of the emulator that let [`Tablet::connect`] in at this socket.
    pub fn arguments(socket: &Path) -> [String; 2] {
        ["-qmp".into(), format!("unix:{},server=on,wait=off", socket.display())]
    }

    /// Takes the socket of a machine that runs.
    ///
    /// # Errors
    /// Where nobody listens on it.
    pub fn connect(socket: &Path) -> Result<Self> {
        Control::connect(socket).map(Self)
    }

    /// Points at a pixel of a screen of this size.
    ///
    /// # Errors
    /// Where the machine has ended.
    pub fn point(&mut self, (x, y): (usize, usize), (width, height): (usize, usize)) -> Result<()> {
        // The emulator counts either way to this.
        const MOST: usize = 0x7fff;
        let [x, y] = [(x, width), (y, height)].map(|(at, of)| (at * MOST + MOST / 2) / of.max(1));
        let axis = |name: &str, value| json!({"type": "abs", "data": {"axis": name, "value": value}});
        self.send(&json!([axis("x", x), axis("y", y)]))
    }

    /// Presses its button, or lets it go.
    ///
    /// # Errors
    /// Where the machine has ended.
    pub fn press(&mut self, is_down: bool) -> Result<()> {
        self.send(&json!([{"type": "btn", "data": {"button": "left", "down": is_down}}]))
    }

    fn send(&mut self, events: &Value) -> Result<()> {
        self.0.execute("input-send-event", &json!({"events": events}))
    }
}
