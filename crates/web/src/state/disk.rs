//! Whether the disk has room for what comes.

use std::path::Path;
use std::sync::Mutex;
use std::time::{Duration, Instant};

/// With less than this, bytes, people are warned: a day of a large network, and what SQLite needs beside it.
const LITTLE: u64 = 50 * 1024 * 1024;
/// How long what was seen is believed.
const BELIEVED: Duration = Duration::from_secs(5);

/// What is known of the room on the disk with the data.
#[derive(Debug, Default)]
pub struct Disk {
    seen: Mutex<Option<(Instant, Option<u64>)>>,
}

impl Disk {
    /// A warning where the disk that holds a directory has little room left, or none.
    #[must_use]
    pub fn warning(&self, data: &Path) -> Option<String> {
        let mut seen = self.seen.lock().ok()?;
        let left = match *seen {
            Some((at, left)) if at.elapsed() < BELIEVED => left,
            _ => {
                let left = rustix::fs::statvfs(data).ok().map(|s| s.f_bavail.saturating_mul(s.f_frsize));
                *seen = Some((Instant::now(), left));
                left
            }
        };
        warning_of(left?)
    }
}

fn warning_of(left: u64) -> Option<String> {
    (left < LITTLE).then(|| {
        format!(
            "The disk with the data has only {} MB left. What cannot be kept is not acknowledged, so that nodes send it again; make room soon.",
            left / 1024 / 1024
        )
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn little_room_is_said_in_time() {
        assert_eq!(warning_of(LITTLE), None);
        assert!(warning_of(LITTLE - 1).is_some_and(|w| w.contains("only 49 MB left")));
        assert!(warning_of(0).is_some_and(|w| w.contains("only 0 MB left")));
        assert_eq!(
            Disk::default().warning(Path::new("/nowhere/at/all")),
            None,
            "what cannot be asked warns of nothing"
        );
    }
}
