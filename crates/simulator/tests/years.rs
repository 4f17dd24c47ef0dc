//! Made-up years: the same plan gives the same year, and their truth is where it says.

use ebrel_core::units::Quantity;
use ebrel_simulator::years::{Climate, Ground, INTERVAL, Kind, Severity, Year, YearPlan, year};

fn plan(seed: u64, faults: Vec<(Kind, Severity)>) -> YearPlan {
    YearPlan { seed, climate: Climate::Mild, ground: Ground::SiltLoam, gauge: true, days: 365, faults }
}

/// A year in which a fault found room; some need a storm, or a time at which the soil moved.
fn with(kind: Kind, severity: Severity) -> (Year, YearPlan) {
    (0..40)
        .map(|seed| plan(seed, vec![(kind, severity)]))
        .map(|plan| (year(&plan), plan))
        .find(|(year, _)| !year.truth.is_empty())
        .unwrap_or_else(|| panic!("{kind:?} {severity:?} found no room in forty years"))
}

#[test]
fn the_same_plan_gives_the_same_year_and_another_seed_another() {
    let faults = vec![(Kind::Spike, Severity::Clear), (Kind::Exchange, Severity::Subtle)];
    assert_eq!(year(&plan(7, faults.clone())), year(&plan(7, faults.clone())));
    assert_ne!(year(&plan(7, faults.clone())).channels, year(&plan(8, faults)).channels);
}

#[test]
fn every_kind_leaves_its_truth_within_the_record_with_a_sentence() {
    for kind in Kind::ALL {
        let (made, _) = with(*kind, Severity::Blatant);
        for truth in &made.truth {
            assert_eq!(truth.kind, *kind);
            assert!(!truth.windows.is_empty() && truth.words.ends_with('.'), "{truth:?}");
            for (channel, from, to) in &truth.windows {
                let inside = made.start <= *from && from <= to && *to <= made.end + 2 * 86_400;
                assert!(*channel < made.channels.len() && inside, "{truth:?} in {} to {}", made.start, made.end);
            }
        }
        assert!(!kind.tests().is_empty() && !kind.words().is_empty());
        for c in &made.channels {
            assert_eq!(c.times.len(), c.values.len(), "{}", c.name);
            assert!(c.times.windows(2).all(|w| w[0] < w[1]), "{}: times rise, {kind:?}", c.name);
            assert!(c.values.iter().all(|v| v.is_finite()), "{}", c.name);
        }
    }
}

#[test]
fn outside_its_windows_a_quick_fault_changes_nothing() {
    for kind in [Kind::Spike, Kind::Burst, Kind::LoosePlug, Kind::Stuck, Kind::Zeros, Kind::Sentinel, Kind::Beyond] {
        for severity in Severity::ALL {
            let (made, plan) = with(kind, severity);
            let clean = year(&YearPlan { faults: Vec::new(), ..plan });
            let mut changed = 0;
            for (i, (a, b)) in made.channels.iter().zip(&clean.channels).enumerate() {
                let windows: Vec<_> = made.truth[0].windows.iter().filter(|w| w.0 == i).collect();
                for ((t, x), y) in a.times.iter().zip(&a.values).zip(&b.values) {
                    let told = windows.iter().any(|w| (w.1..=w.2).contains(t));
                    assert!(told || x == y, "{kind:?} changed {} at {t} without a word", a.name);
                    changed += usize::from(x != y);
                }
            }
            assert!(changed > 0, "{kind:?} {severity:?} changed nothing");
        }
    }
}

#[test]
fn a_plainer_fault_is_larger() {
    let height = |severity| {
        let (made, plan) = with(Kind::BelowZero, severity);
        let clean = year(&YearPlan { faults: Vec::new(), ..plan });
        let (i, from, to) = made.truth[0].windows[0];
        let (a, b) = (&made.channels[i], &clean.channels[i]);
        let apart = a.times.iter().zip(a.values.iter().zip(&b.values)).filter(|(t, _)| (from..=to).contains(*t));
        apart.filter(|(_, (x, y))| x != y).count()
    };
    let [subtle, clear, blatant] = Severity::ALL.map(height);
    assert!(subtle < clear && clear < blatant, "{subtle} {clear} {blatant}");
}

#[test]
fn silences_take_readings_away_and_an_exchange_takes_none() {
    let (made, plan) = with(Kind::NodeSilent, Severity::Clear);
    let clean = year(&YearPlan { faults: Vec::new(), ..plan });
    let (_, from, to) = made.truth[0].windows[0];
    for (a, b) in made.channels.iter().zip(&clean.channels) {
        assert_eq!(b.times.len() - a.times.len(), ((to - from) / INTERVAL + 1) as usize, "{}", a.name);
        assert!(!a.times.iter().any(|t| (from..=to).contains(t)));
    }
    let (made, plan) = with(Kind::Exchange, Severity::Clear);
    let clean = year(&YearPlan { faults: Vec::new(), ..plan });
    let (first, _, _) = made.truth[0].windows[0];
    let (second, from, _) = made.truth[0].windows[1];
    let at = clean.channels[first].times.iter().position(|t| *t == from).unwrap();
    assert_eq!(made.channels[first].values[at], clean.channels[second].values[at], "each has the other's");
    assert_eq!(made.channels[second].values[at], clean.channels[first].values[at]);
}

#[test]
fn climates_and_soils_differ_as_they_should() {
    let mean = |y: &Year, quantity: Quantity| {
        let c = y.channels.iter().find(|c| c.quantity == quantity).unwrap();
        c.values.iter().sum::<f64>() / c.values.len() as f64
    };
    let of = |climate, ground| year(&YearPlan { climate, ground, days: 365, ..plan(11, Vec::new()) });
    let (cold, warm) = (of(Climate::Cold, Ground::SiltLoam), of(Climate::Warm, Ground::SiltLoam));
    assert!(mean(&warm, Quantity::AirTemperature) > mean(&cold, Quantity::AirTemperature) + 10.0);
    assert!(
        mean(&warm, Quantity::SoilTemperature) > mean(&cold, Quantity::SoilTemperature) + 8.0,
        "the ground follows"
    );
    let (dry, wet) = (of(Climate::Dry, Ground::SiltLoam), of(Climate::Wet, Ground::SiltLoam));
    assert!(mean(&wet, Quantity::Rain) > 2.5 * mean(&dry, Quantity::Rain));
    assert!(mean(&wet, Quantity::WaterContent) > mean(&dry, Quantity::WaterContent) + 0.03);
    let (sand, clay) = (of(Climate::Mild, Ground::LoamySand), of(Climate::Mild, Ground::Clay));
    let deep = |y: &Year| {
        let c = y.channels.iter().rfind(|c| c.quantity == Quantity::WaterContent).unwrap();
        c.values.iter().sum::<f64>() / c.values.len() as f64
    };
    assert!(deep(&clay) > deep(&sand) + 0.1, "{} {}", deep(&clay), deep(&sand));
    let names: std::collections::BTreeSet<&str> =
        Climate::ALL.iter().map(|c| c.words()).chain(Ground::ALL.iter().map(|g| g.words())).collect();
    assert_eq!(names.len(), 10);
    let bare = year(&YearPlan { gauge: false, ..plan(3, Vec::new()) });
    assert!(bare.channels.iter().all(|c| c.quantity != Quantity::Rain));
}

#[test]
fn a_record_of_three_days_is_made_and_has_no_room_for_faults() {
    let short = year(&YearPlan {
        days: 3,
        ..plan(5, vec![(Kind::Exchange, Severity::Blatant), (Kind::Spike, Severity::Subtle)])
    });
    assert!(short.truth.is_empty() && short.visits.is_empty());
    assert!(short.channels.iter().all(|c| c.times.len() == 3 * 96));
}
