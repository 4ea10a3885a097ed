//! What hold had to correct, and when: so one sees which system's update does it, and a firmware that never keeps
//! anything is not written to for ever.

use serde::{Deserialize, Serialize};

/// The same corrections in a row after which nothing more is written.
pub const MAX_SAME: usize = 3;
/// Corrections that are kept.
const MAX_KEPT: usize = 200;

/// All that was corrected, the oldest first.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Log {
    /// Each correction; one without anything in it stands for a start at which all was as decided.
    pub corrections: Vec<Correction>,
}

/// One correction.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Correction {
    /// When, in UTC.
    pub time: String,
    /// At which start of the running system.
    pub boot_id: Option<String>,
    /// What would have started.
    pub found: String,
    /// What was written.
    pub what: Vec<String>,
}

impl Log {
    /// Whether the same was corrected, or tried to be, at so many starts in a row that it does not help.
    pub fn is_in_vain(&self, what: &[String]) -> bool {
        let same = self.corrections.iter().rev().take_while(|correction| correction.what == what);
        let mut starts: Vec<&Option<String>> = same.map(|correction| &correction.boot_id).collect();
        // Within one start it may be needed several times; where starts cannot be told apart, each counts.
        starts.dedup_by(|one, other| one.is_some() && one == other);
        !what.is_empty() && starts.len() >= MAX_SAME
    }

    /// Takes in a correction, or, with nothing in it, that all was as decided. That is noted once, at another start than
    /// the one of the last correction. `time` is in UTC. Whether there is something new in it.
    pub fn note(&mut self, time: String, boot_id: Option<String>, found: &str, what: Vec<String>) -> bool {
        let last = self.corrections.last();
        let is_news = !what.is_empty()
            || last.is_some_and(|last| !last.what.is_empty() && boot_id.is_some() && last.boot_id != boot_id);
        if is_news {
            self.corrections.push(Correction { time, boot_id, found: found.to_string(), what });
            let over = self.corrections.len().saturating_sub(MAX_KEPT);
            self.corrections.drain(..over);
        }
        is_news
    }

    /// Starts counting anew; whether there is something new in it.
    pub fn count_anew(&mut self, time: String) -> bool {
        let counts = self.corrections.last().is_some_and(|last| !last.what.is_empty());
        if counts {
            let (found, what) = (String::new(), Vec::new());
            self.corrections.push(Correction { time, boot_id: None, found, what });
        }
        counts
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn three_times_the_same_in_a_row_is_in_vain_and_a_good_start_between_counts_anew() {
        let order = vec!["boot order 0000 0001".to_string()];
        let mut log = Log::default();
        let note = |log: &mut Log, boot: &str, what: &[String]| {
            log.note("2026-11-26".into(), Some(boot.to_string()), "Meridian", what.to_vec());
        };
        for boot in ["a", "b"] {
            note(&mut log, boot, &order);
            note(&mut log, boot, &[]);
        }
        assert!(!log.is_in_vain(&order));
        note(&mut log, "c", &[]);
        note(&mut log, "d", &[]);
        assert_eq!(log.corrections.len(), 3, "a good start is noted once");
        for boot in ["e", "f", "g"] {
            assert!(!log.is_in_vain(&order));
            note(&mut log, boot, &order);
        }
        assert!(log.is_in_vain(&order) && !log.is_in_vain(&[]));
        assert!(log.count_anew("2026-11-27".into()) && !log.is_in_vain(&order));
    }
}
