//! How a logger writes its files: a recipe says each layer of it, and is kept as readable JSON.

use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::collections::BTreeMap;

/// What stands between two fields.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Separator {
    /// `,`
    Comma,
    /// `;`
    Semicolon,
    /// Tabulator.
    Tab,
    /// `|`
    Bar,
    /// One or more blanks.
    Blanks,
}

impl Separator {
    /// All, in the order in which they are tried.
    pub const ALL: [Self; 5] = [Self::Comma, Self::Semicolon, Self::Tab, Self::Bar, Self::Blanks];

    /// The character; a blank stands for one or more.
    #[must_use]
    pub const fn char(self) -> char {
        match self {
            Self::Comma => ',',
            Self::Semicolon => ';',
            Self::Tab => '\t',
            Self::Bar => '|',
            Self::Blanks => ' ',
        }
    }

    /// What it is called.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Comma => "comma",
            Self::Semicolon => "semicolon",
            Self::Tab => "tab",
            Self::Bar => "bar",
            Self::Blanks => "blanks",
        }
    }

    /// The separator with this name.
    #[must_use]
    pub fn from_words(words: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|s| s.words() == words)
    }
}

/// How a line parts into cells.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Cells {
    /// By a separator.
    Delimited(Separator),
    /// By place: the characters (from 0) at which columns begin.
    Fixed(Vec<usize>),
    /// By a separator, each cell saying what it is: `key=value`. A cell without a key is called by its place.
    Tagged {
        /// What stands between two of them.
        between: Separator,
        /// What stands between key and value.
        mark: char,
    },
}

/// What the logger's clock shows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Clock {
    /// A fixed number of minutes east of UTC, all year.
    Fixed(i32),
    /// Local time with summer time, by the name of its zone ("Europe/Paris").
    Zone(String),
    /// A word in each record tells: minutes east of UTC by word ("S" 180, "N" 120).
    Words(BTreeMap<String, i32>),
}

/// How values stand in the file. Columns are counted from 0.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Layout {
    /// One record a line, one column a channel.
    Wide,
    /// One reading a line.
    Long {
        /// Columns that say together which channel it is.
        keys: Vec<usize>,
        /// Column of the value.
        value: usize,
        /// Column of the unit, if there is one.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        unit: Option<usize>,
        /// Column of a mark of quality, if there is one.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        note: Option<usize>,
    },
}

/// A column's name and unit.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Named {
    /// The name; empty: called by its place.
    pub name: String,
    /// Its unit, if one is told.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub unit: String,
}

/// Where names and units stand.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Header {
    /// Lines before the first record, blank and comment lines not counted; `None`: told by their look, wherever they stand.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lines: Option<usize>,
    /// Which line of a header (from 0) holds the names; `None`: told by its look.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub names: Option<usize>,
    /// Which line holds the units.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub units: Option<usize>,
    /// Numbers of fields that records have; a record with another number is torn.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub widths: Vec<usize>,
    /// How a line begins that stands before a header and says which table follows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mark: Option<String>,
    /// Names and units of records that stand before any header.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub columns: Vec<Named>,
}

/// Lines whose kind one of their cells tells.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Tags {
    /// The column of the mark.
    pub column: usize,
    /// Marks of records; each is a table of its own.
    pub records: Vec<String>,
    /// Marks of header lines.
    pub header: Vec<String>,
    /// Marks of lines that hold neither.
    pub other: Vec<String>,
}

/// A sum at the end of each line by which noise is known.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Checksum {
    /// How it is worked out: a name of [`super::checksum::methods`].
    pub method: String,
    /// The character that stands before the sum.
    pub mark: char,
    /// Whether the mark itself is summed.
    #[serde(default)]
    pub with_mark: bool,
    /// Characters at the line's beginning that are not summed.
    #[serde(default)]
    pub skip: usize,
    /// Characters just before the mark that are not summed (a separator).
    #[serde(default)]
    pub cut: usize,
    /// Written with decimal digits.
    #[serde(default)]
    pub decimal: bool,
}

/// How times are written.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Times {
    /// Columns that hold the time, in the order in which the form reads them.
    pub columns: Vec<usize>,
    /// Forms, by the letters of [`super::TimeForm`], tried in order; columns are joined by a blank.
    pub forms: Vec<String>,
    /// What the clock shows.
    pub clock: Clock,
    /// The newest record stands first.
    #[serde(default)]
    pub newest_first: bool,
}

/// How a logger writes its files.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(remote = "Self", deny_unknown_fields)]
pub struct Recipe {
    /// Version of this form.
    pub version: u8,
    /// How a line parts into cells.
    pub cells: Cells,
    /// A line break may stand within quotes.
    #[serde(default)]
    pub quoted_breaks: bool,
    /// Lines that begin so are comments.
    pub comment: Option<String>,
    /// Numbers are written `0,31`.
    #[serde(default)]
    pub decimal_comma: bool,
    /// What groups thousands.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub thousands: Option<char>,
    /// A sum at the end of each line.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub checksum: Option<Checksum>,
    /// Where names and units stand.
    #[serde(default)]
    pub header: Header,
    /// Lines whose kind one of their cells tells.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tags: Option<Tags>,
    /// How times are written.
    pub time: Times,
    /// How values stand.
    pub layout: Layout,
    /// The column that tells which logger wrote a record, where several stand in one file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub node: Option<usize>,
    /// Cells that mean no reading, besides empty ones, in any column. Numbers are compared as numbers, words without regard to
    /// case.
    #[serde(default)]
    pub missing: Vec<String>,
    /// Cells that mean no reading in one column, by its name.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub missing_in: BTreeMap<String, Vec<String>>,
    /// Marks behind a number that do not belong to it (`12.3*`): the reading is taken, the mark kept as a note.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
}

/// The version that is written.
pub const VERSION: u8 = 2;

impl Recipe {
    /// A recipe to begin with by hand: one record a line, the time in the first column as ISO 8601 writes it.
    #[must_use]
    pub fn plain(separator: Separator, offset_minutes: i32) -> Self {
        Self {
            version: VERSION,
            cells: Cells::Delimited(separator),
            quoted_breaks: false,
            comment: None,
            decimal_comma: false,
            thousands: None,
            checksum: None,
            header: Header::default(),
            tags: None,
            time: Times {
                columns: vec![0],
                forms: vec!["%Y-%m-%d %H:%M:%S".into()],
                clock: Clock::Fixed(offset_minutes),
                newest_first: false,
            },
            layout: Layout::Wide,
            node: None,
            missing: Vec::new(),
            missing_in: BTreeMap::new(),
            notes: Vec::new(),
        }
    }

    /// The separator, where one parts the cells.
    #[must_use]
    pub const fn separator(&self) -> Option<Separator> {
        match self.cells {
            Cells::Delimited(separator) | Cells::Tagged { between: separator, .. } => Some(separator),
            Cells::Fixed(_) => None,
        }
    }
}

impl Serialize for Recipe {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        Self::serialize(self, to)
    }
}

/// Reads this version and the first one, which had no number; what does not fit is said by its name.
impl<'de> Deserialize<'de> for Recipe {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let value = serde_json::Value::deserialize(from)?;
        let told = |e: serde_json::Error| D::Error::custom(e);
        match value.get("version").map(serde_json::Value::as_u64) {
            None => serde_json::from_value::<First>(value).map(Self::from).map_err(told),
            Some(Some(version)) if version == u64::from(VERSION) => Self::deserialize(value).map_err(told),
            Some(other) => Err(D::Error::custom(format!(
                "a recipe of version {} was written by a later Ebrel; this one knows version {VERSION}",
                other.map_or_else(|| "?".to_owned(), |v| v.to_string())
            ))),
        }
    }
}

/// What Ebrel wrote before version 2.
#[derive(Deserialize)]
struct First {
    separator: Separator,
    header_lines: usize,
    names_line: Option<usize>,
    units_line: Option<usize>,
    comment: Option<String>,
    decimal_comma: bool,
    time_columns: Vec<usize>,
    time_pattern: String,
    clock: Clock,
    missing: Vec<String>,
    layout: FirstLayout,
}

#[derive(Deserialize)]
#[serde(rename_all = "snake_case")]
enum FirstLayout {
    Wide,
    Long { point: usize, what: Option<usize>, value: usize, unit: Option<usize> },
}

impl From<First> for Recipe {
    fn from(f: First) -> Self {
        let mut recipe = Self::plain(f.separator, 0);
        recipe.comment = f.comment;
        recipe.decimal_comma = f.decimal_comma;
        recipe.header.lines = Some(f.header_lines);
        (recipe.header.names, recipe.header.units) = (f.names_line, f.units_line);
        let forms = vec![f.time_pattern];
        recipe.time = Times { columns: f.time_columns, forms, clock: f.clock, newest_first: false };
        recipe.missing = f.missing;
        recipe.layout = match f.layout {
            FirstLayout::Wide => Layout::Wide,
            FirstLayout::Long { point, what, value, unit } => {
                Layout::Long { keys: std::iter::once(point).chain(what).collect(), value, unit, note: None }
            }
        };
        recipe
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_recipe_of_the_first_version_is_still_read() {
        let text = r##"{"separator":"semicolon","header_lines":2,"names_line":0,"units_line":1,"comment":"#","decimal_comma":true,
            "time_columns":[0],"time_pattern":"%d.%m.%Y %H:%M","clock":{"fixed":60},"missing":["---"],
            "layout":{"long":{"point":1,"what":2,"value":3,"unit":null}}}"##;
        let recipe: Recipe = serde_json::from_str(text).unwrap();
        assert_eq!(recipe.cells, Cells::Delimited(Separator::Semicolon));
        assert_eq!((recipe.header.lines, recipe.header.names, recipe.header.units), (Some(2), Some(0), Some(1)));
        assert_eq!(recipe.layout, Layout::Long { keys: vec![1, 2], value: 3, unit: None, note: None });
        assert_eq!(serde_json::from_str::<Recipe>(&serde_json::to_string(&recipe).unwrap()).unwrap(), recipe);
    }

    #[test]
    fn a_recipe_of_a_later_version_is_refused_by_its_number() {
        let recipe = Recipe { version: 9, ..Recipe::plain(Separator::Comma, 0) };
        let later = serde_json::from_str::<Recipe>(&serde_json::to_string(&recipe).unwrap());
        assert!(later.unwrap_err().to_string().contains("version 9"));
    }

    #[test]
    fn a_slip_in_a_recipe_is_said_by_its_name() {
        let plain = serde_json::to_value(Recipe::plain(Separator::Comma, 0)).unwrap();
        let told = |change: &dyn Fn(&mut serde_json::Value)| {
            let mut recipe = plain.clone();
            change(&mut recipe);
            serde_json::from_value::<Recipe>(recipe).unwrap_err().to_string()
        };
        let without = told(&|r| drop(r.as_object_mut().and_then(|r| r.remove("time"))));
        assert!(without.contains("missing field `time`"), "{without}");
        let misspelt = told(&|r| r["time"]["newst_first"] = true.into());
        assert!(misspelt.contains("unknown field `newst_first`"), "{misspelt}");
        let wrong = told(&|r| r["cells"] = serde_json::json!({ "delimited": "colon" }));
        assert!(wrong.contains("unknown variant `colon`"), "{wrong}");
        let number = told(&|r| r["version"] = "two".into());
        assert!(number.contains("version ?"), "{number}");
    }
}
