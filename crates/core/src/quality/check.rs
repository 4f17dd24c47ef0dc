//! All tests over a station, pass by pass.

use super::cause::{Cause, causes};
use super::scene::Scene;
use super::screened::Screened;
use super::water::Water;
use super::{Flag, Settings, StationContext, conditions, gap, handling, instrument, repeated, spike, step, stuck};

/// A test, or two that share one look.
type Detector = fn(&Scene<'_>, &Settings) -> Vec<Flag>;

/// Detectors that see the same readings.
struct Pass {
    detectors: &'static [Detector],
    /// Whether what they find is hidden from all later passes.
    hides: bool,
}

/// The order: what no probe made is out of the way before a record's noise is learnt and anything else is judged; what
/// is away and back before what jumps and stays; and what stands still before the jump with which it comes back.
const PASSES: &[Pass] = &[
    Pass { detectors: &[|s, _| instrument::not_connected(s), |s, _| instrument::out_of_instrument(s)], hides: true },
    Pass { detectors: &[|s, own| gap::gaps(s, &own.gap), |s, _| repeated::repeated(s)], hides: false },
    Pass {
        detectors: &[
            |s, own| conditions::water_contents(s, &own.impossible, &own.ponded),
            |s, own| conditions::frozen(s, &own.frozen),
        ],
        hides: false,
    },
    Pass { detectors: &[|s, own| spike::spikes(s, &own.spike)], hides: true },
    Pass { detectors: &[|s, own| stuck::stuck(s, &own.stuck)], hides: false },
    Pass { detectors: &[|s, own| step::steps(s, &own.step)], hides: false },
    Pass { detectors: &[|s, _| handling::settling(s), |s, _| handling::visits(s)], hides: false },
];

/// What all tests found at a station.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Findings {
    /// The flags of each channel in the order of the channels, sorted by start and test.
    pub flags: Vec<Vec<Flag>>,
    /// What explains several flags at once.
    pub causes: Vec<Cause>,
}

/// Runs every test over the channels of one station.
///
/// Rain and irrigation are taken from the channels of that quantity, all of them: an exchanged gauge is two. Whatever is
/// found is a function of the record alone; no run knows of an earlier one.
#[must_use]
pub fn check_station(station: &StationContext<'_>, settings: &Settings) -> Findings {
    let water = Water::at(station);
    let mut screened: Vec<Screened<'_>> = station.channels.iter().map(Screened::new).collect();
    let mut flags: Vec<Vec<Flag>> = vec![Vec::new(); screened.len()];
    for (number, pass) in PASSES.iter().enumerate() {
        let mut found_now = Vec::with_capacity(screened.len());
        for (of, found) in screened.iter().zip(&mut flags) {
            let before = found.len();
            for detector in pass.detectors {
                let scene = Scene { of, all: &screened, station, water: &water, found };
                let now = detector(&scene, settings);
                found.extend(now);
            }
            found_now.push(before);
        }
        if pass.hides {
            for ((channel, found), before) in screened.iter_mut().zip(&flags).zip(found_now) {
                channel.hide(&found[before..]);
            }
        }
        if number == 0 {
            screened.iter_mut().for_each(Screened::learn_texture);
        }
    }
    for found in &mut flags {
        found.sort_by_key(|f| (f.start, f.test));
    }
    let causes = causes(station.channels, &flags);
    Findings { flags, causes }
}
