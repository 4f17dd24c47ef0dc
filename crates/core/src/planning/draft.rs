//! A plan as it was typed: nothing is refused here, so that nothing typed is lost.
//!
//! Every value is [`Typed`] text; [`Plan::resolve`](super::Plan::resolve) makes quantities of it and remarks of what
//! cannot be one. The same shape is the plan's JSON: a number stands there as a number where it reads as one.

use crate::units::{Range, read_number};
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::collections::BTreeMap;

/// Text in a field. In JSON a plain number is written as a number.
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Typed(String);

impl From<&str> for Typed {
    fn from(text: &str) -> Self {
        Self(text.to_owned())
    }
}

impl From<f64> for Typed {
    fn from(value: f64) -> Self {
        Self(value.to_string())
    }
}

impl std::ops::Deref for Typed {
    type Target = str;
    fn deref(&self) -> &str {
        self.0.trim()
    }
}

impl Typed {
    /// Whether nothing was typed.
    #[must_use]
    pub fn is_blank(&self) -> bool {
        self.is_empty()
    }

    /// Whether a box is ticked.
    #[must_use]
    pub fn is_yes(&self) -> bool {
        &**self == "yes"
    }

    /// The number it reads as, within `range`.
    ///
    /// # Errors
    /// A sentence that says what to do.
    pub fn number_in(&self, range: Range) -> Result<f64, String> {
        range.check(read_number(self)?).map_err(|e| e.to_string())
    }

    /// The number it reads as within `range`; `None` if nothing was typed.
    ///
    /// # Errors
    /// A sentence that says what to do.
    pub fn optional_in(&self, range: Range) -> Result<Option<f64>, String> {
        if self.is_blank() { Ok(None) } else { self.number_in(range).map(Some) }
    }
}

impl Serialize for Typed {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self.0.parse::<f64>() {
            Ok(number) if number.is_finite() && number.to_string() == self.0 => serializer.serialize_f64(number),
            _ => serializer.serialize_str(&self.0),
        }
    }
}

impl<'de> Deserialize<'de> for Typed {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl serde::de::Visitor<'_> for Visitor {
            type Value = Typed;
            fn expecting(&self, f: &mut std::fmt::Formatter) -> std::fmt::Result {
                f.write_str("text or a number")
            }
            fn visit_str<E>(self, text: &str) -> Result<Typed, E> {
                Ok(Typed(text.to_owned()))
            }
            fn visit_f64<E>(self, number: f64) -> Result<Typed, E> {
                Ok(Typed(number.to_string()))
            }
            fn visit_i64<E>(self, number: i64) -> Result<Typed, E> {
                Ok(Typed(number.to_string()))
            }
            fn visit_u64<E>(self, number: u64) -> Result<Typed, E> {
                Ok(Typed(number.to_string()))
            }
        }
        deserializer.deserialize_any(Visitor)
    }
}

macro_rules! drafts {
    ($($(#[$doc:meta])* $name:ident { $($(#[$fdoc:meta])* $field:ident: $kind:ty),+ $(,)? })+) => {
        $($(#[$doc])*
        #[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
        #[serde(default, deny_unknown_fields)]
        pub struct $name { $($(#[$fdoc])* pub $field: $kind),+ })+
    };
}

drafts! {
    /// The plan of one station.
    Draft {
        /// What the station answers.
        purpose: Typed,
        /// Latitude in degrees, north positive.
        latitude: Typed,
        /// Longitude in degrees, east positive.
        longitude: Typed,
        /// Metres above the sea.
        elevation_m: Typed,
        /// What is done here, or that nothing is.
        treatment: Typed,
        /// What grows here.
        cover: Typed,
        /// Numbers by their code; what is missing follows the table of [`super::Figure`]s.
        figures: BTreeMap<String, Typed>,
        /// Answers among a few, by question: `method`, `hardness`, `machines`, `seat`, `stay`, `fill`, `terrain`,
        /// What was chosen, by the key of the choice: `logger`, `measures`.
        choices: BTreeMap<String, Typed>,
        /// Places that were looked at.
        candidates: Vec<CandidateDraft>,
        /// Number of the chosen one, from 0.
        chosen: Typed,
        /// Why that one.
        chosen_because: Typed,
        /// Known imperfections of the place.
        biases: Vec<BiasDraft>,
        /// Soil from the surface down.
        horizons: Vec<HorizonDraft>,
        /// The probes that are to be put in, in the order of the list.
        probes: Vec<ProbeDraft>,
        /// Tables of records.
        tables: Vec<TableDraft>,
        /// Programs that were sent.
        programs: Vec<SentProgram>,
        /// Who is about to send the next one.
        sent_by: Typed,
        /// What changes with it, and why.
        sent_why: Typed,
        /// Day of installation.
        install: Typed,
        /// Day on which everything comes out again.
        retrieve: Typed,
        /// Day on which machines come.
        machines_on: Typed,
        /// What was ticked, by kit item: `packed`, `site` or both.
        ticks: BTreeMap<String, Typed>,
        /// Currency of the costs.
        currency: Typed,
    }
    /// A place that was looked at.
    CandidateDraft {
        /// What it is called.
        name: Typed,
        /// 0 (bad) to 3 (good), by criterion.
        scores: BTreeMap<String, Typed>,
        /// A remark, by criterion.
        notes: BTreeMap<String, Typed>,
        /// `yes` where a hard condition is met: services located, access, permission.
        cleared: BTreeMap<String, Typed>,
    }
    /// A known imperfection.
    BiasDraft {
        /// What it is.
        what: Typed,
        /// What is done about it.
        mitigation: Typed,
    }
    /// A horizon of the profile as it is expected.
    HorizonDraft {
        /// What the horizon is called, such as `Bt`.
        name: Typed,
        /// Texture class, as in the soil map or by hand.
        texture: Typed,
        /// Lower boundary, cm.
        bottom_cm: Typed,
        /// Dry bulk density, g/cm³.
        density: Typed,
        /// Share of sand in the mineral soil, % by mass.
        sand_pct: Typed,
        /// Share of clay in the mineral soil, % by mass.
        clay_pct: Typed,
        /// Organic matter, %.
        organic_pct: Typed,
    }
    /// A probe that is to be put in.
    ProbeDraft {
        /// Depth of its sensing centre, cm.
        depth_cm: Typed,
        /// What this depth answers.
        purpose: Typed,
        /// Model, by code.
        model: Typed,
        /// Serial, once it is known.
        serial: Typed,
        /// How it lies: `edge`, `flat`, `upright`, `slanted`.
        lies: Typed,
        /// `yes` for the sentinel below the roots.
        sentinel: Typed,
        /// Port; empty: as proposed.
        port: Typed,
        /// Address on a bus; empty: the maker's.
        address: Typed,
        /// Length of its cable, m; empty: the model's.
        cable_m: Typed,
    }
    /// A table of records.
    TableDraft {
        /// What the table is called at the logger.
        name: Typed,
        /// Minutes from record to record.
        every_min: Typed,
        /// `yes` by `quantity:statistic`.
        keep: BTreeMap<String, Typed>,
    }
    /// A program that was sent to the logger.
    SentProgram {
        /// Number of the program that was sent.
        version: Typed,
        /// The day on which it was sent.
        sent: Typed,
        /// Who sent it to the logger.
        by: Typed,
        /// What it does otherwise than the one before.
        changed: Typed,
        /// Scan interval and tables, as sent.
        program: Typed,
    }
}

impl Draft {
    /// The answer to a question among a few; empty if not given.
    #[must_use]
    pub fn choice(&self, question: &str) -> &str {
        self.choices.get(question).map_or("", |t| t)
    }

    /// What was typed for a number; empty if nothing was.
    #[must_use]
    pub fn figure(&self, code: &str) -> &str {
        self.figures.get(code).map_or("", |t| t)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_numbers_in_json_and_text_stays_as_it_was_typed() {
        let json = |text: &str| serde_json::to_string(&Typed::from(text)).unwrap();
        assert_eq!(
            [json("12.5"), json("12,5"), json("-3"), json(""), json("NaN")],
            ["12.5", "\"12,5\"", "-3.0", "\"\"", "\"NaN\""]
        );
        let draft: Draft = serde_json::from_str(r#"{"figures": {"roots_cm": 60, "stones_pct": "few"}}"#).unwrap();
        assert_eq!((draft.figure("roots_cm"), draft.figure("stones_pct"), draft.figure("scan_s")), ("60", "few", ""));
    }

    #[test]
    fn a_field_that_nobody_knows_is_named() {
        let error = serde_json::from_str::<Draft>(r#"{"probes": [{"depth": 5}]}"#).unwrap_err();
        assert!(error.to_string().contains("unknown field `depth`, expected one of `depth_cm`"), "{error}");
    }
}
