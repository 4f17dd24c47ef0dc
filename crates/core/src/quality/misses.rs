//! Much rain, and a probe that says nothing.

use super::answer::{Answer, Answers, answers};
use super::context::written;
use super::definition::settings;
use super::scene::{Told, Whole};
use super::water::Storm;
use super::{Definition, Evidence, Flag, MissesRainEvidence};
use crate::statistics::{median, quantile};
use crate::units::{Grade, Quantity, SpanSeconds};

settings!(
    /// When a rain is missed.
    MissesRainSettings {
        /// So much rain, with pauses of less than six hours, must be felt.
        rain_mm: 9.0 in 1.0..=500.0 "mm",
        /// A probe that answers this share of such rains is one that should.
        answers: 0.34 in 0.0..=1.0 "",
        /// Below this share of its usual rise it did not answer.
        share: 0.12 in 0.0..=1.0 "",
    }
);

pub(super) const DEFINITION: Definition = Definition {
    title: "Misses the rain",
    mark: "M",
    grade: Grade::Doubtful,
    finds: "Rain enough for a probe that usually answers, and dry enough to, and it does not move while another one does. Leaves that keep \
            the rain and soil that repels it remain the doubt. Without a rain gauge nothing is judged.",
    settings: MissesRainSettings::LIST,
};

/// Levels are alike within this share of a probe's range,
const ALIKE: f64 = 0.15;
/// and an answer from there is plain from so many times what is none.
const PLAINLY: f64 = 15.0;
/// Another probe felt a rain if it rose by this share of what it usually does.
const FELT: f64 = 0.3;
/// A probe that was asked less often than this has no habit.
const LEAST_STORMS: usize = 4;
/// A probe no deeper than this feels any such rain, cm,
const SHALLOW_CM: f64 = 15.0;
/// if it always did
const ALWAYS: f64 = 0.8;
/// and so many times as much fell.
const MUCH: f64 = 1.5;
/// A probe whose level stands in this upper part of its own range may have no room for more.
const ROOM: f64 = 0.35;

/// Storms that a probe did not answer although it usually does, was dry enough, and another probe of the station did.
pub(super) fn misses(whole: &Whole<'_>, own: &MissesRainSettings) -> Vec<Told> {
    let storms = whole.water.storms(own.rain_mm);
    let all = answers(whole, &storms);
    let usual_rises: Vec<f64> = all.iter().map(|a| a.usual_rise(|_| true)).collect();
    let mut told = Vec::new();
    for probe in &all {
        let dry_enough = |before: f64| before < probe.wet - ROOM * (probe.wet - probe.dry);
        // A deeper probe must be one that nearly always answers: much rain stays above it.
        let least = if probe.depth <= SHALLOW_CM { own.answers } else { own.answers.max(ALWAYS) };
        for (s, storm) in storms.iter().enumerate() {
            let answerable = |a: &Answer| dry_enough(a.before) || rises_at(probe, a.before) > PLAINLY * probe.nothing;
            let Some(answer) = probe.answers[s].filter(answerable) else { continue };
            if answer.rise > probe.nothing {
                continue;
            }
            let (asked, share, usual) = habit(probe, s, dry_enough);
            // A probe that usually does not answer has nothing to miss.
            if asked < LEAST_STORMS || share < least || usual <= probe.nothing || answer.rise >= own.share * usual {
                continue;
            }
            // Water that a deeper probe felt has passed this one; what only a shallower one felt may have stayed above.
            let felt = |(other, usual): &(&Answers<'_>, &f64)| {
                let plain = other.answers[s].is_some_and(|a| a.rise > FELT * **usual);
                let alike = other.of.channel.quantity == probe.of.channel.quantity;
                alike && other.index != probe.index && other.rose(s) == Some(true) && plain
            };
            let others = all.iter().zip(&usual_rises).filter(felt).map(|(other, _)| other);
            let deeper = others.clone().find(|other| other.depth >= probe.depth - 1.0);
            // What a twin does not feel either did not come to this depth.
            let twin = |other: &&Answers<'_>| {
                let beside = other.index != probe.index && (other.depth - probe.depth).abs() <= 1.0;
                beside && other.of.channel.quantity == probe.of.channel.quantity && other.rose(s) == Some(false)
            };
            if all.iter().any(|other| twin(&other)) {
                continue;
            }
            let most = probe.depth <= SHALLOW_CM && share >= ALWAYS && storm.mm >= MUCH * own.rain_mm;
            if let Some(witness) = deeper.or_else(|| others.clone().next().filter(|_| most)) {
                told.extend(tell(whole, probe, storm, (answer.rise, usual, share), witness));
            }
        }
    }
    told
}

/// What a probe does at storms that find it dry enough: how many there were, the share that it felt, and its median rise. A silence as a whole is
/// no habit: storms of it, before and after this one, do not count.
fn habit(probe: &Answers<'_>, storm: usize, dry_enough: impl Fn(f64) -> bool) -> (usize, f64, f64) {
    let speaks = |a: &Option<Answer>| a.is_some_and(|a| a.rise > probe.nothing);
    let from = probe.answers[..storm].iter().rposition(speaks).map_or(0, |i| i + 1);
    let to = probe.answers[storm..].iter().position(speaks).map_or(probe.answers.len(), |i| storm + i);
    let others = probe.answers[..from].iter().chain(&probe.answers[to..]).flatten();
    let mut rises: Vec<f64> = others.filter(|a| dry_enough(a.before)).map(|a| a.rise).collect();
    let felt = rises.iter().filter(|rise| **rise > probe.nothing).count();
    (rises.len(), felt as f64 / rises.len().max(1) as f64, median(&mut rises).unwrap_or(0.0))
}

/// How far a probe rises from about this level at its better answers (upper quartile); 0 where it was seldom there.
fn rises_at(probe: &Answers<'_>, level: f64) -> f64 {
    let near = ALIKE * (probe.wet - probe.dry);
    let mut rises: Vec<f64> =
        probe.answers.iter().flatten().filter(|a| (a.before - level).abs() <= near).map(|a| a.rise).collect();
    if rises.len() < LEAST_STORMS { 0.0 } else { quantile(&mut rises, 0.75).unwrap_or(0.0) }
}

fn tell(
    whole: &Whole<'_>,
    probe: &Answers<'_>,
    storm: &Storm,
    (rise, usual, share): (f64, f64, f64),
    witness: &Answers<'_>,
) -> Option<Told> {
    let view = probe.of.between(storm.from, storm.from + SpanSeconds::DAY.0);
    let (start, end) = view.times.first().zip(view.times.last())?;
    let quantity = probe.of.channel.quantity;
    let reason = format!(
        "{} and no answer (usually {}, in {:.0}\u{a0}% of such rains), while {} rose: a dead probe or a gap around it, unless leaves kept the rain or dry soil repelled it.",
        whole.water.words(whole.water.rain(storm.from, storm.to)),
        written(quantity, if quantity == Quantity::WaterTension { -usual } else { usual }),
        100.0 * share,
        witness.of.channel.name,
    );
    let evidence = Evidence::MissesRain(MissesRainEvidence {
        answers: share.into(),
        rain_mm: storm.mm.into(),
        rise: rise.into(),
        usual_rise: usual.into(),
    });
    let strength = usual / probe.of.nothing(1.0, 0.3).max(f64::MIN_POSITIVE);
    Some((probe.index, Flag::new(DEFINITION.grade, (*start, *end), view.times.len(), strength, evidence, reason)))
}
