//! Slows down guessing of passwords, by address and by account, with a wait that grows.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};
use thiserror::Error;

/// Wrong tries of one address before it must wait.
const FREE: u32 = 5;
/// The longest wait of an address.
const LONGEST: Duration = Duration::from_secs(15 * 60);
/// Wrong tries at one account, from anywhere, from which each address has only one try in a while.
const MANY: u32 = 20;
/// That while.
const EACH: Duration = Duration::from_secs(60);
/// After this long without a wrong try everything is forgotten.
const FORGOTTEN: Duration = Duration::from_secs(3600);
/// Addresses and accounts remembered at most; the oldest go first.
const MOST: usize = 20_000;

#[derive(Clone, Copy)]
struct Wrong {
    count: u32,
    last: Instant,
}

/// Too many tries were wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
#[error("too many tries: wait {seconds} s")]
pub struct Wait {
    /// Until the next try, s.
    pub seconds: u64,
}

/// Remembers wrong tries.
#[derive(Default)]
pub struct Throttle {
    wrong: Mutex<HashMap<String, Wrong>>,
}

/// A growing wait: none for the first few, then doubling.
fn wait(count: u32) -> Duration {
    let over = count.saturating_sub(FREE);
    if over == 0 { Duration::ZERO } else { Duration::from_secs(1 << over.min(12)).min(LONGEST) }
}

fn of_address(address: &str) -> String {
    format!("address {address}")
}

fn of_account(account: &str) -> String {
    format!("account {account}")
}

fn of_pair(address: &str, account: &str) -> String {
    format!("{address} at {account}")
}

impl Throttle {
    /// Whether a try may be made now.
    ///
    /// An address that was wrong often waits, longer each time. At an account that was tried often from anywhere each
    /// address has one try a minute: the right password still passes from an address that has not been wrong.
    ///
    /// # Errors
    /// [`Wait`] with the seconds to wait.
    pub fn pass(&self, address: &str, account: &str, now: Instant) -> Result<(), Wait> {
        let known = self.wrong.lock().unwrap_or_else(PoisonError::into_inner);
        let of = |key: String| known.get(&key).copied().filter(|w| now.duration_since(w.last) < FORGOTTEN);
        let left = |w: Option<Wrong>, wait: fn(u32) -> Duration| {
            w.map_or(Duration::ZERO, |w| wait(w.count).saturating_sub(now.duration_since(w.last)))
        };
        let mut longest = left(of(of_address(address)), wait);
        if of(of_account(account)).is_some_and(|w| w.count >= MANY) {
            longest = longest.max(left(of(of_pair(address, account)), |_| EACH));
        }
        if longest.is_zero() { Ok(()) } else { Err(Wait { seconds: longest.as_secs() + 1 }) }
    }

    /// Notes a wrong try.
    pub fn note_wrong(&self, address: &str, account: &str, now: Instant) {
        let mut known = self.wrong.lock().unwrap_or_else(PoisonError::into_inner);
        known.retain(|_, w| now.duration_since(w.last) < FORGOTTEN);
        if known.len() >= MOST {
            let mut ages: Vec<Instant> = known.values().map(|w| w.last).collect();
            let middle = ages.len() / 2;
            let cut = *ages.select_nth_unstable(middle).1;
            known.retain(|_, w| w.last > cut);
        }
        for key in [of_address(address), of_account(account), of_pair(address, account)] {
            let wrong = known.entry(key).or_insert(Wrong { count: 0, last: now });
            *wrong = Wrong { count: wrong.count.saturating_add(1), last: now };
        }
    }

    /// Forgets the wrong tries of an address that then had the right password.
    pub fn note_right(&self, address: &str, account: &str) {
        let mut known = self.wrong.lock().unwrap_or_else(PoisonError::into_inner);
        known.remove(&of_address(address));
        known.remove(&of_pair(address, account));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn seconds(passed: Result<(), Wait>) -> u64 {
        passed.map_or_else(|wait| wait.seconds, |()| 0)
    }

    #[test]
    fn the_wait_grows_and_is_forgotten() {
        let (throttle, start) = (Throttle::default(), Instant::now());
        let mut before = 0;
        for n in 0..12 {
            let asked = seconds(throttle.pass("10.0.0.9", "arvel", start));
            assert!(asked >= before && (asked == 0) == (n <= FREE), "{n}: {asked}");
            before = asked;
            throttle.note_wrong("10.0.0.9", "arvel", start);
        }
        assert!(before > 30);
        assert_eq!(seconds(throttle.pass("10.0.0.9", "arvel", start + FORGOTTEN)), 0);
        throttle.note_right("10.0.0.9", "arvel");
        assert_eq!(seconds(throttle.pass("10.0.0.9", "arvel", start)), 0);
    }

    #[test]
    fn a_hunted_account_is_open_to_its_owner_from_another_address() {
        let (throttle, now) = (Throttle::default(), Instant::now());
        for i in 0..40 {
            throttle.note_wrong(&format!("10.0.0.{i}"), "arvel", now);
        }
        assert!(seconds(throttle.pass("10.0.0.3", "arvel", now)) > 0, "one try a minute for each that was wrong");
        assert_eq!(seconds(throttle.pass("10.9.9.9", "arvel", now)), 0);
        assert_eq!(seconds(throttle.pass("10.0.0.3", "quill", now)), 0, "another account is not concerned");
    }

    #[test]
    fn many_strangers_are_not_remembered_without_end() {
        let (throttle, now) = (Throttle::default(), Instant::now());
        for i in 0..30_000u64 {
            throttle.note_wrong(&i.to_string(), "arvel", now + Duration::from_millis(i));
        }
        assert!(throttle.wrong.lock().unwrap().len() <= MOST + 3);
    }
}
