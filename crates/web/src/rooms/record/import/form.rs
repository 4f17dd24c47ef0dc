//! The form of a recipe as it stands on the page. How it is read is in [`super::reading`], what the columns are in [`super::columns`].

use crate::shell::forms::Field;
use ebrel_core::units::format_offset;
use ebrel_formats::logger::{Cells, Clock, Layout, Recipe, Separator, checksum};
use std::collections::HashMap;

/// What a browser sent.
pub type Typed = HashMap<String, String>;

/// The form as it stands on the page. Columns are counted from 1 on it.
#[derive(Default)]
pub struct RecipeForm {
    /// What parts cells, by its code.
    pub separator: String,
    /// Characters at which fixed columns begin.
    pub starts: Field,
    pub comment: String,
    pub mark: String,
    pub quoted_breaks: bool,
    pub header_lines: Field,
    pub names_line: Field,
    pub units_line: Field,
    /// "off", or the method with which sums are checked.
    pub checksum: String,
    pub checksum_mark: Field,
    pub tag_records: String,
    pub tag_header: String,
    pub tag_other: String,
    pub time_columns: Field,
    /// Forms of the time, parted by bars.
    pub time_pattern: Field,
    pub newest_first: bool,
    /// "fixed", "zone" or "words".
    pub clock: String,
    pub offset: Field,
    pub zone: Field,
    pub words: Field,
    pub decimal_comma: bool,
    /// "", ".", "," , "'" or "blank".
    pub thousands: String,
    pub missing: Field,
    pub notes: Field,
    pub long: bool,
    pub keys: Field,
    pub value: Field,
    pub unit: Field,
    pub note: Field,
    pub node_column: Field,
}

impl RecipeForm {
    /// What may part cells: code and words.
    pub fn separators(&self) -> Vec<(String, String)> {
        let plain = Separator::ALL.iter().map(|s| (s.words().to_owned(), s.words().to_owned()));
        let keyed = Separator::ALL.iter().map(|s| (format!("key {}", s.words()), format!("key=value, {}", s.words())));
        plain.chain([("fixed".to_owned(), "nothing: fixed columns".to_owned())]).chain(keyed).collect()
    }

    /// What may group thousands: code and words.
    pub fn groupings(&self) -> [(&'static str, &'static str); 5] {
        [("", "nothing"), (".", "point"), (",", "comma"), ("blank", "blank"), ("'", "apostrophe")]
    }

    /// Ways to check a line's sum: code and words.
    pub fn sums(&self) -> Vec<(String, String)> {
        let words = |m: &str| m.replace('_', " ").to_uppercase();
        let off = ("off".to_owned(), "none".to_owned());
        std::iter::once(off).chain(checksum::methods().map(|m| (m.to_owned(), words(m)))).collect()
    }

    /// Whether a choice is the one taken.
    pub fn is(&self, of: &str, code: &str) -> bool {
        code == of
    }
}

fn one_based(columns: impl IntoIterator<Item = usize>) -> Field {
    Field::of(&columns.into_iter().map(|c| (c + 1).to_string()).collect::<Vec<_>>().join(" "))
}

fn marks(marks: &[String]) -> Field {
    Field::of(&marks.iter().map(|m| m.replace(' ', "\u{a0}")).collect::<Vec<_>>().join(" "))
}

/// The form that shows a recipe.
pub fn recipe_form(recipe: &Recipe) -> RecipeForm {
    let mut form = RecipeForm {
        separator: match &recipe.cells {
            Cells::Delimited(s) => s.words().to_owned(),
            Cells::Fixed(_) => "fixed".to_owned(),
            Cells::Tagged { between, .. } => format!("key {}", between.words()),
        },
        starts: match &recipe.cells {
            Cells::Fixed(starts) => one_based(starts.iter().copied()),
            _ => Field::default(),
        },
        comment: recipe.comment.clone().unwrap_or_default(),
        mark: recipe.header.mark.clone().unwrap_or_default(),
        quoted_breaks: recipe.quoted_breaks,
        header_lines: Field::of(&recipe.header.lines.map(|n| n.to_string()).unwrap_or_default()),
        names_line: one_based(recipe.header.names),
        units_line: one_based(recipe.header.units),
        checksum: recipe.checksum.as_ref().map_or_else(|| "off".to_owned(), |c| c.method.clone()),
        checksum_mark: Field::of(&recipe.checksum.as_ref().map(|c| c.mark.to_string()).unwrap_or_default()),
        time_columns: one_based(recipe.time.columns.iter().copied()),
        time_pattern: Field::of(&recipe.time.forms.join(" | ")),
        newest_first: recipe.time.newest_first,
        decimal_comma: recipe.decimal_comma,
        thousands: recipe
            .thousands
            .map(|c| if c == ' ' { "blank".to_owned() } else { c.to_string() })
            .unwrap_or_default(),
        missing: marks(&recipe.missing),
        notes: marks(&recipe.notes),
        node_column: one_based(recipe.node),
        ..RecipeForm::default()
    };
    if let Some(tags) = &recipe.tags {
        (form.tag_records, form.tag_header, form.tag_other) =
            (tags.records.join(" "), tags.header.join(" "), tags.other.join(" "));
    }
    form.offset = Field::of(&format_offset(0));
    match &recipe.time.clock {
        Clock::Fixed(minutes) => {
            form.clock = "fixed".into();
            form.offset = Field::of(&format_offset(i64::from(*minutes)));
        }
        Clock::Zone(name) => (form.clock, form.zone) = ("zone".into(), Field::of(name)),
        Clock::Words(words) => {
            form.clock = "words".into();
            let told = words.iter().map(|(w, m)| format!("{w}={}", format_offset(i64::from(*m))));
            form.words = Field::of(&told.collect::<Vec<_>>().join(" "));
        }
    }
    if let Layout::Long { keys, value, unit, note } = &recipe.layout {
        form.long = true;
        form.keys = one_based(keys.iter().copied());
        (form.value, form.unit, form.note) = (one_based([*value]), one_based(*unit), one_based(*note));
    }
    form
}
