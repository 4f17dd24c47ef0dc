//! How a logger writes its files.

use serde::{Deserialize, Serialize};

/// What stands between two fields.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
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

/// What the logger's clock shows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Clock {
    /// A fixed number of minutes east of UTC, all year.
    Fixed(i32),
    /// Local time with summer time, by the name of its zone ("Europe/Paris").
    Zone(String),
}

/// How values stand in the file. Columns are counted from 0.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Layout {
    /// One record a line, one column a channel.
    Wide,
    /// One reading a line: where, what, value and unit in columns.
    Long {
        /// Column that says where.
        point: usize,
        /// Column that says what, if there is one.
        what: Option<usize>,
        /// Column of the value.
        value: usize,
        /// Column of the unit, if there is one.
        unit: Option<usize>,
    },
}

/// How a logger writes its files.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Recipe {
    /// What stands between fields.
    pub separator: Separator,
    /// Lines before the first record, comments not counted.
    pub header_lines: usize,
    /// Which of them (from 0) holds the columns' names.
    pub names_line: Option<usize>,
    /// Which of them holds the units.
    pub units_line: Option<usize>,
    /// Lines that begin so are comments.
    pub comment: Option<String>,
    /// Numbers are written `0,31`.
    pub decimal_comma: bool,
    /// Columns that hold the time: one, or date and time of day.
    pub time_columns: Vec<usize>,
    /// The form of the time, by the letters of strftime; date and time of day joined by a blank.
    pub time_pattern: String,
    /// What the clock shows.
    pub clock: Clock,
    /// Cells that mean no reading, besides empty ones. Numbers are compared as numbers, words without regard to case.
    pub missing: Vec<String>,
    /// How values stand.
    pub layout: Layout,
}
