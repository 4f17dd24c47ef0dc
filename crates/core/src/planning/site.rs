//! Choosing the spot: what it represents, never because it is easy to dig.

use super::draft::{CandidateDraft, Draft};
use super::remark::{Remark, Severity, Step};
use crate::units::Range;

/// A criterion.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Criterion {
    /// Code in the draft.
    pub code: &'static str,
    /// What is asked.
    pub asks: &'static str,
}

/// What a candidate is scored on, 0 (bad) to 3 (good).
pub const CRITERIA: [Criterion; 7] = [
    Criterion { code: "represents", asks: "Represents its unit: slope, aspect, soil, cover, management" },
    Criterion { code: "relief", asks: "Not in a hollow, on a steep slope, at an edge or in a patchy stand" },
    Criterion { code: "stones", asks: "No large stones or roots where the probes go" },
    Criterion { code: "undisturbed", asks: "Not disturbed lately" },
    Criterion { code: "bias", asks: "Nothing near that warms, shades, drips or sprinkles" },
    Criterion { code: "sky", asks: "Sky for a panel" },
    Criterion { code: "radio", asks: "A radio path to the gateway" },
];

/// What must be met before anything is dug.
pub const CLEARANCES: [Criterion; 3] = [
    Criterion { code: "services", asks: "Buried services located" },
    Criterion { code: "access", asks: "Can be reached, with the kit" },
    Criterion { code: "permission", asks: "The owner agrees" },
];

const SCORE: Range = Range { name: "a score", unit: "(bad to good)", min: 0.0, max: 3.0 };

/// A candidate as judged.
#[derive(Debug, Clone, PartialEq)]
pub struct ScoredSite {
    /// The name that people use; several may share it.
    pub name: String,
    /// Mean score as a share of the best possible, %; `None` before anything is scored.
    pub percent: Option<f64>,
    /// How many of the criteria are scored.
    pub scored: usize,
    /// Hard stops: what is not cleared.
    pub stops: Vec<&'static str>,
    /// Criteria scored 0 or 1.
    pub weak: Vec<&'static str>,
}

/// All candidates, judged, with the one that stands best: no stop, then the highest score.
#[must_use]
pub fn judge(draft: &Draft, remarks: &mut Vec<Remark>) -> (Vec<ScoredSite>, Option<usize>) {
    let judged: Vec<ScoredSite> = draft.candidates.iter().enumerate().map(|(i, c)| one(i, c, remarks)).collect();
    let best = (0..judged.len())
        .filter(|i| judged[*i].stops.is_empty() && judged[*i].percent.is_some())
        .max_by(|a, b| judged[*a].percent.partial_cmp(&judged[*b].percent).unwrap_or(std::cmp::Ordering::Equal));
    choice(draft, &judged, best, remarks);
    for (i, bias) in draft.biases.iter().enumerate().filter(|(_, b)| !b.what.is_blank() && b.mitigation.is_blank()) {
        let says = format!("“{}” has no mitigation: say what is done, or that nothing can be.", &*bias.what);
        remarks.push(Remark::new(Step::Site, Severity::Weak, format!("biases.{i}.mitigation"), says));
    }
    (judged, best)
}

fn one(i: usize, c: &CandidateDraft, remarks: &mut Vec<Remark>) -> ScoredSite {
    let mut scores = Vec::new();
    let mut weak = Vec::new();
    for criterion in &CRITERIA {
        let Some(typed) = c.scores.get(criterion.code).filter(|t| !t.is_blank()) else { continue };
        match typed.number_in(SCORE) {
            Ok(score) => {
                scores.push(score);
                if score < 1.5 {
                    weak.push(criterion.asks);
                }
            }
            Err(says) => remarks.push(Remark::new(
                Step::Site,
                Severity::Stop,
                format!("candidates.{i}.scores.{}", criterion.code),
                says,
            )),
        }
    }
    let stops =
        CLEARANCES.iter().filter(|s| !c.cleared.get(s.code).is_some_and(|t| t.is_yes())).map(|s| s.asks).collect();
    let percent = (!scores.is_empty()).then(|| scores.iter().sum::<f64>() / scores.len() as f64 / SCORE.max * 100.0);
    ScoredSite { name: c.name.to_string(), percent, scored: scores.len(), stops, weak }
}

fn choice(draft: &Draft, judged: &[ScoredSite], best: Option<usize>, remarks: &mut Vec<Remark>) {
    let mut say = |severity, at: &str, says: String| remarks.push(Remark::new(Step::Site, severity, at, says));
    if judged.is_empty() {
        return say(
            Severity::Note,
            "",
            "No place was looked at yet. One candidate with its reasons is enough to defend it later.".into(),
        );
    }
    let chosen = draft.chosen.parse::<usize>().ok().and_then(|i| judged.get(i).map(|j| (i, j)));
    let Some((i, j)) = chosen else {
        return say(Severity::Weak, "chosen", "No candidate is chosen yet.".into());
    };
    if !j.stops.is_empty() {
        say(
            Severity::Stop,
            "chosen",
            format!("{} cannot be dug yet. Still open: {}.", j.name, j.stops.join("; ").to_lowercase()),
        );
    }
    if best.is_some_and(|b| b != i) && draft.chosen_because.is_blank() {
        say(
            Severity::Weak,
            "chosen_because",
            format!("{} scores higher: say why {} was taken.", judged[best.unwrap_or(i)].name, j.name),
        );
    } else if draft.chosen_because.is_blank() {
        say(
            Severity::Weak,
            "chosen_because",
            "Say what this place represents; you will be asked in five years.".into(),
        );
    }
}

/// Known biases as one sentence, to be kept with the station.
#[must_use]
pub fn known_bias(draft: &Draft) -> String {
    let each = draft.biases.iter().filter(|b| !b.what.is_blank()).map(|b| {
        if b.mitigation.is_blank() { b.what.to_string() } else { format!("{} ({})", &*b.what, &*b.mitigation) }
    });
    each.collect::<Vec<_>>().join("; ")
}
