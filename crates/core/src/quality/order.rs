//! A deeper probe that wets before a shallower one.

use super::answer::{Answer, Answers, answers, storms};
use super::context::written;
use super::definition::settings;
use super::scene::{Told, Whole};
use super::{Definition, Evidence, Flag, OrderEvidence, Test};
use crate::units::{Grade, Quantity, SpanSeconds};

settings!(
    /// When depths wet out of order.
    OrderSettings {
        /// Rains of this much are looked at.
        rain_mm: 5.0 in 0.5..=500.0 "mm",
        /// The deeper probe rises by so much, at least (tension: by a tenth of its level).
        rise: 0.02 in 0.001..=0.5 "m³/m³",
        /// It comes so much ahead of the shallower one.
        minutes: 30.0 in 1.0..=1440.0 "min",
        /// It rises from a fifth to four fifths within so long.
        hours: 4.0 in 0.25..=48.0 "h",
        /// In so many rains, at least.
        storms: 2.0 in 1.0..=50.0 "rains",
    }
);

pub(super) const DEFINITION: Definition = Definition {
    title: "Wets out of order",
    mark: "B",
    grade: Grade::Doubtful,
    finds: "A deeper probe that wets fast and ahead of the one above it, in several rains: water runs down a cable or the wall of the hole, or \
            ports are exchanged. Frost and probes without room for more water are not judged.",
    settings: OrderSettings::LIST,
};

/// Share of a probe's usual rise below which it hardly answered.
const HARDLY: f64 = 0.15;

/// One storm in which a deeper probe came first.
struct Bypass {
    storm: usize,
    answer: Answer,
    ahead: Option<i64>,
}

/// Storms in which a probe rose fast and well before the next shallower one did, or while that one hardly did.
pub(super) fn bypasses(whole: &Whole<'_>, own: &OrderSettings) -> Vec<Told> {
    let storms = storms(whole, own.rain_mm);
    let all = answers(whole, &storms);
    let mut told = Vec::new();
    // A probe that sleeps through a rain says nothing of who came first.
    let sleeps = |above: &Answers<'_>, s: usize| {
        let asleep = |f: &Flag| f.test == Test::MissesRain && f.start.0 <= storms[s].to && f.end.0 >= storms[s].from;
        whole.found[above.index].iter().any(asleep)
    };
    for (d, deep) in all.iter().enumerate() {
        let Some(above) = all[..d].iter().rev().find(|a| a.depth + 2.0 <= deep.depth) else { continue };
        let usual = above.usual_rise(|_| true);
        let found: Vec<Bypass> = (0..storms.len())
            .filter(|s| !sleeps(above, *s))
            .filter_map(|s| bypass(deep, (above, usual), s, own))
            .collect();
        if (found.len() as f64) < own.storms {
            continue;
        }
        told.extend(found.iter().filter_map(|b| tell(whole, deep, above, b, found.len(), storms[b.storm].mm)));
    }
    told
}

fn bypass(deep: &Answers<'_>, (above, usual): (&Answers<'_>, f64), s: usize, own: &OrderSettings) -> Option<Bypass> {
    let (answer, over) = (deep.answers[s]?, above.answers[s]?);
    let least = match deep.of.channel.quantity {
        Quantity::WaterContent => own.rise,
        Quantity::WaterTension => 0.1 * answer.before.abs(),
        _ => 0.1 * (deep.wet - deep.dry).abs(),
    };
    let fast = (answer.reached[2] - answer.reached[0]) as f64 <= own.hours * 3600.0;
    if answer.rise < least.max(deep.of.nothing(8.0, 4.0)) || !fast {
        return None;
    }
    // A probe that is full says nothing of what passes it.
    let room = over.before < above.wet - 0.1 * (above.wet - above.dry);
    let answered = over.rise > above.nothing && over.rise > HARDLY * usual;
    let ahead = over.reached[1] - answer.reached[1];
    let first = ahead as f64 >= own.minutes * 60.0;
    (room && (!answered || first)).then_some(Bypass { storm: s, answer, ahead: answered.then_some(ahead) })
}

fn tell(
    whole: &Whole<'_>,
    deep: &Answers<'_>,
    above: &Answers<'_>,
    b: &Bypass,
    storms: usize,
    mm: f64,
) -> Option<Told> {
    let (from, to) = (b.answer.reached[0], b.answer.until.min(b.answer.reached[0] + SpanSeconds::DAY.0));
    let view = deep.of.between(from, to);
    let (start, end) = view.times.first().zip(view.times.last())?;
    let how = match b.ahead {
        Some(ahead) => format!("{} before {}", SpanSeconds(ahead).in_words(), above.placed()),
        None => format!("while {} above it hardly moved", above.placed()),
    };
    let reason = format!(
        "After {} it rose by {} {how}, as in {storms} rains: water may run down the cable or the wall of the hole.",
        if mm.is_finite() {
            whole.water.words(whole.water.rain(from - SpanSeconds::DAY.0, from))
        } else {
            "a wetting".to_owned()
        },
        written(deep.of.channel.quantity, b.answer.rise),
    );
    let evidence = Evidence::WetsOutOfOrder(OrderEvidence {
        ahead_min: b.ahead.map(|s| (s as f64 / 60.0).into()),
        above_cm: above.depth.into(),
        rain_mm: mm.is_finite().then(|| mm.into()),
        rise: b.answer.rise.into(),
        storms: storms.into(),
    });
    let strength = b.answer.rise / deep.of.nothing(1.0, 0.3).max(f64::MIN_POSITIVE);
    Some((deep.index, Flag::new(DEFINITION.grade, (*start, *end), view.times.len(), strength, evidence, reason)))
}
