//! A reading judged before the hole is filled, by a table that a phone can go through as well.

use super::Limits;
use crate::units::{coded, format_value};
use serde::{Deserialize, Serialize};

coded!(
    /// What a reading at the hole says of the seat.
    SoilVerdict {
        /// Nothing speaks against it.
        Good = "good",
        /// Look again before the hole is filled.
        Doubtful = "doubtful",
        /// It must not stay so.
        Bad = "bad",
    }
);

coded!(
    /// What to do about a reading.
    Action {
        /// Go on: fill the hole.
        GoOn = "go_on",
        /// Press the probe home and read again.
        Press = "press",
        /// Wait some minutes and read again.
        Wait = "wait",
        /// Pull it, look at prongs and seat, try again.
        Pull = "pull",
        /// A new hole beside this one.
        Move = "move",
        /// Look at the plug, the port and the wires.
        Plug = "plug",
    }
);

impl Action {
    /// What to do, as an order.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::GoOn => "Go on.",
            Self::Press => "Press it home and read it three times more.",
            Self::Wait => "Wait ten minutes and read it again.",
            Self::Pull => "Pull it, clean the prongs, and push it in again without wobble.",
            Self::Move => "Move it a hand's breadth into fresh soil.",
            Self::Plug => "Look at the plug, the port and the wires.",
        }
    }
}

coded!(
    /// What a rule looks at.
    RuleKind {
        /// The mean of the repeats, as the instrument gives it.
        Raw = "raw",
        /// How far the repeats lie apart, as the instrument gives them.
        Spread = "spread",
        /// The mean in the unit of the quantity.
        Value = "value",
        /// The mean less the nearest neighbour's, without its sign.
        Off = "off",
    }
);

/// One line of the table: outside of its limits it speaks.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Rule {
    /// What it looks at.
    pub of: RuleKind,
    /// Speaks below this.
    pub low: Option<f64>,
    /// Speaks above this.
    pub high: Option<f64>,
    /// What it says of the seat.
    pub verdict: SoilVerdict,
    /// What to do.
    pub does: Action,
    /// The sentence; `{raw}`, `{spread}`, `{value}`, `{off}`, `{other}` stand for the figures.
    pub says: String,
}

/// A probe that was read before in the same hole or profile.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Neighbour {
    /// What it is called: "15 cm".
    pub place: String,
    /// Its value in the unit of the quantity.
    pub value: f64,
}

/// What is said of a reading.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Judgement {
    /// What it says of the seat.
    pub verdict: SoilVerdict,
    /// What to do.
    pub does: Action,
    /// The mean in the unit of the quantity, where a curve gives it.
    pub value: Option<f64>,
    /// One sentence with the figures, and the order.
    pub says: String,
}

/// Judges repeats of one reading by the table of its probe. `beside` is the nearest neighbour that was read, if any was.
///
/// The same steps in the same order are taken by `rooms/field/judge.js`; a test holds both against each other.
#[must_use]
pub fn judge(limits: &Limits, repeats: &[f64], beside: Option<&Neighbour>) -> Option<Judgement> {
    if repeats.is_empty() || !repeats.iter().all(|r| r.is_finite()) {
        return None;
    }
    let (mut sum, mut least, mut most) = (0.0, repeats[0], repeats[0]);
    for r in repeats {
        sum += r;
        least = if *r < least { *r } else { least };
        most = if *r > most { *r } else { most };
    }
    let raw = sum / repeats.len() as f64;
    let value = limits.value_of(raw);
    let off = value.zip(beside).map(|(v, b)| (v - b.value).abs());
    let figure = |of: RuleKind| match of {
        RuleKind::Raw => Some(raw),
        RuleKind::Spread => Some(most - least),
        RuleKind::Value => value,
        RuleKind::Off => off,
    };
    let speaks = limits.rules.iter().find(|rule| {
        let figure = figure(rule.of);
        figure.is_some_and(|f| rule.low.is_some_and(|low| f < low) || rule.high.is_some_and(|high| f > high))
    });
    let digits = limits.decimals;
    let written = |figure: Option<f64>, digits: usize| figure.map_or_else(String::new, |f| format_value(f, digits));
    let fill = |text: &str| {
        text.replace("{raw}", &written(Some(raw), limits.raw_decimals))
            .replace("{spread}", &written(Some(most - least), limits.raw_decimals))
            .replace("{value}", &written(value, digits))
            .replace("{off}", &written(off, digits))
            .replace("{other}", beside.map_or("", |b| &b.place))
    };
    let (verdict, does, says) = match speaks {
        Some(rule) => (rule.verdict, rule.does, rule.says.as_str()),
        None => (SoilVerdict::Good, Action::GoOn, limits.good.as_str()),
    };
    Some(Judgement { verdict, does, value, says: format!("{} {}", fill(says), does.words()) })
}
