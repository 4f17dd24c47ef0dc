//! How well the tests of quality judge: made-up years with known truth, by kind and severity, and clean ones of five climates and soils.

mod findings;
mod score;

pub use findings::findings;

use crate::{Failed, say};
use ebrel_core::quality::{
    Channel, Delivery, Event, EventKind, Place, Repeat, Settings, StationContext, check_station,
};
use ebrel_core::series::View;
use ebrel_core::units::{SpanSeconds, UnixSeconds};
use ebrel_simulator::years::{Climate, Ground, INTERVAL, Kind, Severity, Year, YearChannel, YearPlan, year};
use score::{Score, judge};
use std::fmt::Write as _;
use std::path::Path;

/// Heading of this part of the document.
const TITLE: &str = "# How well the tests of quality judge";

/// Years are made from seeds of this on for reporting; those below it may be tuned on.
const REPORTED: u64 = 20_000;

/// Every fault once at each severity, spread over years so that a year has about a dozen; and clean years.
fn plans(first_seed: u64, rounds: u64) -> Vec<YearPlan> {
    let mut plans = Vec::new();
    let plan = |seed: u64, faults, gauge| YearPlan {
        seed,
        climate: Climate::ALL[(seed % 5) as usize],
        ground: Ground::ALL[(seed / 5 % 5) as usize],
        gauge,
        days: 365,
        faults,
    };
    for round in 0..rounds {
        let mut all: Vec<(Kind, Severity)> =
            Kind::ALL.iter().flat_map(|k| Severity::ALL.iter().map(|s| (*k, *s))).collect();
        // Another company of faults in each round.
        let n = all.len();
        all.rotate_left((round as usize * 29) % n);
        for (i, some) in deal(&all).into_iter().enumerate() {
            plans.push(plan(first_seed + round * 100 + i as u64, some, true));
        }
    }
    for seed in 0..25 {
        // Every fifth has no gauge.
        plans.push(plan(first_seed + 50 + seed, Vec::new(), seed % 5 != 4));
    }
    plans
}

/// Deals faults to years: no kind twice in one, for two of a kind may hide each other.
fn deal(all: &[(Kind, Severity)]) -> Vec<Vec<(Kind, Severity)>> {
    let mut years: Vec<Vec<(Kind, Severity)>> = vec![Vec::new(); 8];
    let alone = [Kind::WrongDepth, Kind::Exchange, Kind::ClockDrift];
    for fault in all {
        let fits = |y: &&mut Vec<(Kind, Severity)>| {
            !y.iter().any(|f| f.0 == fault.0 || (alone.contains(&f.0) && alone.contains(&fault.0)))
        };
        if let Some(year) = years.iter_mut().filter(fits).min_by_key(|y| y.len()) {
            year.push(*fault);
        } else {
            years.push(vec![*fault]);
        }
    }
    years
}

/// A channel of a year, as the tests see it.
fn channel<'y>(c: &'y YearChannel, repeats: &'y [Repeat], delivered: &'y [Delivery], year: &Year) -> Channel<'y> {
    Channel {
        node: "node",
        port: &c.port,
        depth_cm: c.depth_cm,
        placed: (Some(UnixSeconds(year.start)), Some(UnixSeconds(year.end))),
        interval: Some(SpanSeconds(INTERVAL)),
        instrument: Some(c.range),
        resolution: Some(c.resolution),
        pore_space: c.pore_space,
        repeats,
        delivered,
        ..Channel::bare(&c.name, c.quantity, View { times: &c.times, values: &c.values })
    }
}

/// Runs all tests over a year and holds them against its truth.
fn judged(year: &Year) -> Score {
    let repeats: Vec<Vec<Repeat>> = year
        .channels
        .iter()
        .map(|c| {
            c.repeats
                .iter()
                .map(|(t, first, later)| Repeat { time: UnixSeconds(*t), first: *first, later: *later })
                .collect()
        })
        .collect();
    let delivered: Vec<Vec<Delivery>> = year
        .channels
        .iter()
        .map(|c| {
            let one = |(a, b): &(i64, i64)| Delivery {
                received_at: UnixSeconds(0),
                first: UnixSeconds(*a),
                last: UnixSeconds(*b),
            };
            c.delivered.iter().map(one).collect()
        })
        .collect();
    let channels: Vec<Channel<'_>> =
        year.channels.iter().enumerate().map(|(i, c)| channel(c, &repeats[i], &delivered[i], year)).collect();
    let visit = |(a, b): &(i64, i64)| Event { kind: EventKind::Visit, start: UnixSeconds(*a), end: UnixSeconds(*b) };
    let events: Vec<Event> = year.visits.iter().map(visit).collect();
    let place = Some(Place { latitude: year.place.0, longitude: year.place.1 });
    let station = StationContext { place, ..StationContext::alone(&channels, &events) };
    judge(year, &check_station(&station, &Settings::default()))
}

/// Judges all years of some seeds.
fn all(first_seed: u64, rounds: u64) -> (Score, Vec<(YearPlan, Score)>) {
    let mut sum = Score::default();
    let mut clean = Vec::new();
    for plan in plans(first_seed, rounds) {
        let score = judged(&year(&plan));
        if plan.faults.is_empty() {
            clean.push((plan, score));
        } else {
            sum.add(score);
        }
    }
    (sum, clean)
}

/// Makes `docs/judgement.md`, or only tells what would stand in it for seeds to tune on.
pub fn quality(root: &Path, tune: bool) -> Result<(), Failed> {
    let (rounds, seed) = if tune { (3, 1) } else { (3, REPORTED) };
    let (sum, clean) = all(seed, rounds);
    let text = report(&sum, &clean);
    say(&text);
    if tune {
        sum.false_alarms.iter().for_each(|f| say(&format!("false: {f}")));
        sum.missed.iter().for_each(|f| say(&format!("missed: {f}")));
        for (plan, score) in &clean {
            let where_ = format!("{} on {}", plan.climate.words(), plan.ground.words());
            score.false_alarms.iter().for_each(|f| say(&format!("false, clean {} {where_}: {f}", plan.seed)));
        }
        return Ok(());
    }
    keep(root, TITLE, &text)
}

/// Puts a part into `docs/judgement.md`, in the place of the one with its title; what others judged stays.
fn keep(root: &Path, title: &str, text: &str) -> Result<(), Failed> {
    let path = root.join("docs/judgement.md");
    let before = std::fs::read_to_string(&path)?;
    let (above, below) = before.split_once(title).unwrap_or((&before, ""));
    let below = below.find("\n# ").map_or("", |next| &below[next + 1..]);
    let parts = [above, text, below].map(str::trim);
    let whole: Vec<&str> = parts.into_iter().filter(|p| !p.is_empty()).collect();
    std::fs::write(path, whole.join("\n\n") + "\n")?;
    say("written to docs/judgement.md");
    Ok(())
}

fn report(sum: &Score, clean: &[(YearPlan, Score)]) -> String {
    let mut out = format!("{TITLE}\n\n");
    out.push_str(
        "Made by `cargo xtask judge quality` from made-up years of Ebrel's own simulator (`simulator::years`), with seeds that no \
         threshold was chosen on. An event is found if a test that may name it flags a third of one of its windows, or comes within two records of \
         a short one; a false alarm is a flag, wrong or doubtful, that lies on nothing that was done to its channel.\n\n",
    );
    let (found, of) = sum.events();
    let _ = writeln!(
        out,
        "Events: {found} of {of} found, {} false alarms: precision {:.3}, F1 **{:.3}**. Readings: F1 **{:.3}**.\n",
        sum.false_alarms.len(),
        found as f64 / (found + sum.false_alarms.len()).max(1) as f64,
        sum.event_f1(),
        sum.reading_f1()
    );
    out.push_str("| kind | subtle | clear | blatant |\n|---|---|---|---|\n");
    for kind in Kind::ALL {
        let cell = |s: Severity| {
            let (found, of) = sum.of(*kind, s);
            if of == 0 { "–".to_owned() } else { format!("{found} of {of}") }
        };
        let [a, b, c] = Severity::ALL.map(cell);
        let _ = writeln!(out, "| {} | {a} | {b} | {c} |", kind.words());
    }
    let readings: usize = clean.iter().map(|c| c.1.readings).sum();
    let flagged: usize = clean.iter().map(|c| c.1.false_readings).sum();
    let spans: usize = clean.iter().map(|c| c.1.false_alarms.len()).sum();
    let most = clean.iter().map(|c| c.1.false_alarms.len()).max().unwrap_or(0);
    let _ = writeln!(
        out,
        "\nClean years: {} stations, {readings} readings, {flagged} falsely flagged ({:.4} %), {spans} false spans, {:.2} per station and year, at most {most}.\n",
        clean.len(),
        100.0 * flagged as f64 / readings.max(1) as f64,
        spans as f64 / clean.len().max(1) as f64,
    );
    out.push_str("| climate | soil | gauge | false spans |\n|---|---|---|---|\n");
    for (plan, score) in clean {
        let gauge = if plan.gauge { "yes" } else { "no" };
        let _ = writeln!(
            out,
            "| {} | {} | {gauge} | {} |",
            plan.climate.words(),
            plan.ground.words(),
            score.false_alarms.len()
        );
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A small set of every kind, so that a change that spoils a test is seen at once.
    #[test]
    fn the_tests_keep_their_floors_on_a_small_set() {
        let mut sum = Score::default();
        let mut clean = Score::default();
        for plan in plans(500, 1).into_iter().filter(|p| !p.faults.is_empty() || p.seed % 5 == 2) {
            let score = judged(&year(&plan));
            if plan.faults.is_empty() { clean.add(score) } else { sum.add(score) }
        }
        let (found, of) = sum.events();
        assert!(of >= 60, "{of} events are too few to tell");
        assert!(sum.event_f1() >= 0.85, "{found} of {of}, false {:?}, missed {:?}", sum.false_alarms, sum.missed);
        assert!(sum.reading_f1() >= 0.85, "{:.3}", sum.reading_f1());
        assert!(clean.false_alarms.len() <= 5, "{:?}", clean.false_alarms);
    }
}
