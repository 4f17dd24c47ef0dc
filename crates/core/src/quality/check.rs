//! All tests over a station, pass by pass.

use super::again::{Judged, check_again};
use super::cause::Cause;
use super::scene::{Scene, Told, Whole};
use super::screened::Screened;
use super::water::Water;
use super::{
    Flag, Settings, StationContext, burst, clock, conditions, exchange, gap, handling, heat, instrument, misses, order,
    pair, reference, repeated, rise, spike, step, stuck, sunlit, supply, wiggle,
};
use rayon::prelude::*;

/// A test, or two that share one look.
#[derive(Clone, Copy)]
enum Detector {
    /// Looks at one channel after the other.
    Channel(fn(&Scene<'_>, &Settings) -> Vec<Flag>),
    /// Looks at a whole station.
    Station(fn(&Whole<'_>, &Settings) -> Vec<Told>),
}

/// Detectors that see the same readings.
struct Pass {
    detectors: &'static [Detector],
    /// Whether what they find is hidden from all later passes.
    hides: bool,
}

use Detector::{Channel as Of, Station as All};

/// The order: what no probe made is out of the way before a record's noise is learnt and anything else is judged; what shakes before
/// what is away and back, and both before ports that are exchanged; what stands still before the jump with which it comes back;
/// what is slow last, and of that the depths before what rests on them.
const PASSES: &[Pass] = &[
    Pass { detectors: &[Of(|s, _| clock::not_there(s))], hides: true },
    Pass {
        detectors: &[
            Of(|s, _| instrument::not_connected(s)),
            Of(|s, _| instrument::out_of_instrument(s)),
            Of(|s, _| instrument::empty(s)),
        ],
        hides: true,
    },
    Pass {
        detectors: &[
            Of(|s, own| gap::gaps(s, &own.gap)),
            Of(|s, _| repeated::repeated(s)),
            Of(|s, _| clock::late(s)),
            All(|s, own| clock::clocks(s, &own.clock)),
            Of(|s, _| handling::settling(s)),
            Of(|s, _| handling::visits(s)),
        ],
        hides: false,
    },
    Pass {
        detectors: &[
            Of(|s, own| conditions::water_contents(s, &own.impossible, &own.ponded)),
            Of(|s, own| conditions::frozen(s, &own.frozen)),
        ],
        hides: false,
    },
    Pass { detectors: &[Of(|s, own| burst::bursts(s, &own.noise))], hides: true },
    Pass { detectors: &[Of(|s, own| spike::spikes(s, &own.spike))], hides: true },
    Pass { detectors: &[All(|s, own| exchange::swapped(s, &own.swapped_ports))], hides: true },
    Pass { detectors: &[Of(|s, own| stuck::stuck(s, &own.stuck))], hides: false },
    Pass { detectors: &[Of(|s, own| step::steps(s, &own.step))], hides: false },
    Pass { detectors: &[All(|s, own| heat::misordered(s, &own.heat_misorder))], hides: false },
    Pass {
        detectors: &[
            All(|s, own| rise::rises(s, &own.rise_without_water)),
            All(|s, own| misses::misses(s, &own.misses_rain)),
            All(|s, own| order::bypasses(s, &own.wets_out_of_order)),
            Of(|s, own| wiggle::wiggles(s, &own.daily_wiggle)),
            All(|s, own| pair::apart(s, &own.pair_apart)),
            Of(|s, own| reference::contradicts(s, &own.reference_apart)),
            Of(|s, own| sunlit::sunlit(s, &own.sunlit_air)),
            Of(|s, own| supply::low_power(s, &own.low_power)),
            Of(|s, own| supply::wet_box(s, &own.wet_box)),
        ],
        hides: false,
    },
];

/// After this pass the readings that no probe made are out, and a record's noise is learnt.
const LEARNS: usize = 1;

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
    check_again(station, settings, &mut Judged::default())
}

/// The flags of every test over the channels of one station, pass by pass; channels are looked at side by side on the cores that there
/// are.
pub(super) fn all_tests(station: &StationContext<'_>, settings: &Settings) -> Vec<Vec<Flag>> {
    let water = Water::at(station);
    let mut screened: Vec<Screened<'_>> = station.channels.iter().map(Screened::new).collect();
    let mut flags: Vec<Vec<Flag>> = vec![Vec::new(); screened.len()];
    for (number, pass) in PASSES.iter().enumerate() {
        let before: Vec<usize> = flags.iter().map(Vec::len).collect();
        for detector in pass.detectors {
            match detector {
                Detector::Channel(look) => {
                    screened.par_iter().zip(&mut flags).for_each(|(of, found)| {
                        let now = look(&Scene { of, all: &screened, station, water: &water, found }, settings);
                        found.extend(now);
                    });
                }
                Detector::Station(look) => {
                    let told = look(&Whole { all: &screened, station, water: &water, found: &flags }, settings);
                    told.into_iter().for_each(|(i, flag)| flags[i].push(flag));
                }
            }
        }
        if pass.hides {
            let found = flags.par_iter().zip(before);
            screened.par_iter_mut().zip(found).for_each(|(channel, (found, before))| channel.hide(&found[before..]));
        }
        if number == LEARNS {
            screened.par_iter_mut().for_each(Screened::learn_texture);
        }
    }
    flags
}
