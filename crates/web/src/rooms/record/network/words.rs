//! What a node's health is in words.

use crate::shell::figures::{fixed, moment, signed, when};
use ebrel_app::network::NodeHealth;
use ebrel_core::network::{Battery, EMPTY_V, Emptying, WET_PCT};
use ebrel_core::units::{Quantity, SpanSeconds, UnixSeconds};

/// A battery that is empty within so many days is told of.
const SOON_DAYS: f64 = 45.0;

/// A fact about a node, and whether somebody should do something about it.
pub struct Fact {
    pub name: &'static str,
    pub says: String,
    pub wrong: bool,
}

/// What is known of a node, what is wrong with it marked.
pub fn facts(node: &NodeHealth, now: UnixSeconds, offset: i64) -> Vec<Fact> {
    let mut all = vec![heard(node, now, offset), share(node)];
    if let Some(battery) = &node.battery {
        all.push(battery_fact(battery, now, offset));
    }
    if let Some(humidity) = node.last_of(Quantity::EnclosureHumidity) {
        let wet = humidity.mean >= WET_PCT;
        let what = if wet { ": water is in it or soon will be" } else { "" };
        all.push(Fact { name: "box", says: format!("{}\u{a0}% humidity{what}", fixed(humidity.mean, 0)), wrong: wet });
    }
    if let Some(signal) = node.last_of(Quantity::SignalStrength) {
        let fade = node.fade.map(|f| {
            let loss = f.loss_db();
            let does = if loss >= 0.5 { format!("{}\u{a0}dB weaker", fixed(loss, 1)) } else { "no weaker".to_owned() };
            format!(", {does} within a day after 5\u{a0}mm of rain")
        });
        let says = format!("{}\u{a0}dBm{}", signed(signal.mean, 0), fade.unwrap_or_default());
        all.push(Fact { name: "signal", says, wrong: false });
    }
    all.push(clock(node, offset));
    all
}

fn heard(node: &NodeHealth, now: UnixSeconds, offset: i64) -> Fact {
    let name = "heard";
    let Some(heard) = &node.heard else {
        let brought = node.arrived.map(|t| format!(" by itself; a file was brought {}", moment(t, offset)));
        return Fact { name, says: format!("never{}", brought.unwrap_or_default()), wrong: false };
    };
    let ago = SpanSeconds((now - heard.last).0.max(0)).in_words();
    let habit = if heard.habit_known { "" } else { " (assumed)" };
    let says = if heard.is_silent() {
        format!(
            "silent since {}, for {ago}: {} sendings missed, one each {}{habit}",
            moment(heard.last, offset),
            heard.missed,
            heard.every.in_words()
        )
    } else {
        format!("{ago} ago; it sends each {}{habit}", heard.every.in_words())
    };
    Fact { name, says, wrong: heard.is_silent() }
}

fn share(node: &NodeHealth) -> Fact {
    let name = "records";
    let Some(share) = node.share_of_a_week() else {
        return Fact { name, says: "none yet".to_owned(), wrong: false };
    };
    let owed: usize = node.received.iter().rev().take_while(|d| d.got < d.expected).map(|d| d.expected - d.got).sum();
    let owes = match owed {
        0 => String::new(),
        1 => ", 1 still to come".to_owned(),
        n => format!(", {n} still to come"),
    };
    let says = format!("{}\u{a0}% of those of a week{owes}", fixed((share * 1000.0).floor() / 10.0, 1));
    Fact { name, says, wrong: share < 0.9 }
}

fn battery_fact(battery: &Battery, now: UnixSeconds, offset: i64) -> Fact {
    let day = |in_days: f64| when(UnixSeconds(now.0 + (in_days * 86_400.0) as i64), offset, "%-d %b %Y");
    let (says, wrong) = match battery.emptying {
        Emptying::Empty => (format!("empty (taken as so below {}\u{a0}V)", fixed(EMPTY_V, 1)), true),
        Emptying::TooFew => ("too few days tell a trend".to_owned(), false),
        Emptying::Holds => ("holds".to_owned(), false),
        Emptying::Falls { likely, .. } if likely > 1500.0 => ("lasts for years".to_owned(), false),
        Emptying::Falls { likely, earliest, latest } => {
            let latest = latest.filter(|l| *l < 3000.0).map_or_else(|| "no sure end".to_owned(), day);
            let earliest = day(earliest);
            let range = if earliest == latest { String::new() } else { format!("{earliest} to {latest}, ") };
            let says = format!("empty about {} ({range}at {}\u{a0}V)", day(likely), fixed(EMPTY_V, 1));
            (says, likely < SOON_DAYS)
        }
    };
    Fact { name: "battery", says: format!("{}\u{a0}V, {says}", fixed(battery.volts, 2)), wrong }
}

fn clock(node: &NodeHealth, offset: i64) -> Fact {
    let says = node.clock.map_or_else(
        || "never checked".to_owned(),
        |check| {
            let ahead = check.ahead();
            let error = match ahead.0 {
                0 => "right".to_owned(),
                s if s > 0 => format!("{} ahead", ahead.in_words()),
                s => format!("{} behind", SpanSeconds(-s).in_words()),
            };
            format!("{error} on {}{}", moment(check.truth, offset), if check.set { ", set right" } else { "" })
        },
    );
    Fact { name: "clock", says, wrong: false }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn battery(emptying: Emptying) -> Fact {
        battery_fact(&Battery { volts: 3.518, trend: None, emptying }, UnixSeconds(1_788_242_400), 0)
    }

    #[test]
    fn the_day_on_which_a_battery_is_empty_is_told_with_its_range() {
        let falls = |likely, latest| battery(Emptying::Falls { likely, earliest: likely * 0.8, latest });
        let soon = falls(30.0, Some(50.0));
        assert_eq!(soon.says, "3.52\u{a0}V, empty about 1 Oct 2026 (25 Sep 2026 to 21 Oct 2026, at 3.3\u{a0}V)");
        assert!(soon.wrong && !falls(46.0, None).wrong && falls(46.0, None).says.contains("no sure end"));
        let sure = battery(Emptying::Falls { likely: 30.0, earliest: 30.0, latest: Some(30.1) });
        assert_eq!(sure.says, "3.52\u{a0}V, empty about 1 Oct 2026 (at 3.3\u{a0}V)");
        assert_eq!(falls(4000.0, None).says, "3.52\u{a0}V, lasts for years");
        assert!(battery(Emptying::Empty).wrong && !battery(Emptying::Holds).wrong);
    }
}
