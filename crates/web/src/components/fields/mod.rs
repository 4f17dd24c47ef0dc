//! Fields of a draft as they stand on a page: the text as typed, the default and its source, what is said.

use ebrel_app::record::ChannelRecord;
use ebrel_core::planning::{Remark, Severity, Typed};
use ebrel_core::units::unit_for_people;

pub struct FigureField {
    /// Its path in the draft.
    pub path: String,
    pub name: &'static str,
    pub unit: &'static str,
    /// As typed; empty: the default.
    pub text: String,
    pub default: String,
    /// Where the default comes from.
    pub source: &'static str,
    /// What is said.
    pub says: Vec<FieldMessage>,
}

pub struct TextField {
    /// Path in the draft.
    pub path: String,
    pub text: String,
    /// What is said.
    pub says: Vec<FieldMessage>,
}

impl TextField {
    /// A field with what is said of it.
    pub fn of(path: impl Into<String>, typed: &Typed, says: Vec<FieldMessage>) -> Self {
        Self { path: path.into(), text: typed.to_string(), says }
    }
}

/// One answer of a choice.
pub struct Answer {
    pub code: String,
    pub words: String,
    /// Whether it is taken.
    pub taken: bool,
}

impl Answer {
    /// An answer, taken if it is the one of this code.
    pub fn of(code: impl Into<String>, words: impl Into<String>, taken: &str) -> Self {
        let code = code.into();
        Self { taken: code == taken, code, words: words.into() }
    }

    /// Streams of a station by their numbers, each once however many placements it was seen through.
    pub fn streams<'r>(channels: impl Iterator<Item = &'r ChannelRecord>, taken: &str) -> Vec<Self> {
        let one = |c: &ChannelRecord| Self::of(c.channel.stream.id.to_string(), channel_words(c), taken);
        let mut all: Vec<Self> = channels.map(one).collect();
        all.dedup_by(|a, b| a.code == b.code);
        all
    }
}

/// A channel as people tell it from others: "15 cm, water content, m³/m³, port m15". In the air its label says what it shows.
pub fn channel_words(channel: &ChannelRecord) -> String {
    let (label, shows) = (channel.channel.label(), channel.quantity().words());
    let place = if label == shows { label } else { format!("{label}, {shows}") };
    format!("{place}, {}, port {}", unit_for_people(channel.unit()), channel.channel.stream.port)
}

/// A choice among a few.
pub struct Choice {
    /// Path in the draft.
    pub path: String,
    pub name: &'static str,
    pub answers: Vec<Answer>,
    /// What is said.
    pub says: Vec<FieldMessage>,
}

/// A sentence at a field.
#[derive(Clone)]
pub struct FieldMessage {
    /// `stop`, `weak` or `note`.
    pub class: &'static str,
    pub says: String,
}

impl FieldMessage {
    /// As it stands at its field.
    pub fn of(remark: &Remark) -> Self {
        let class = match remark.severity {
            Severity::Stop => "stop",
            Severity::Weak => "weak",
            Severity::Note => "note",
        };
        let mut letters = remark.says.chars();
        let says = letters.next().map(|c| c.to_uppercase().chain(letters).collect()).unwrap_or_default();
        Self { class, says }
    }
}
