//! What a test is, as people meet it: its name on a page, its mark on a strip, its settings, and what it looks for.

use crate::units::{Grade, Range};

/// One test, as people meet it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Definition {
    /// Its name in a heading.
    pub title: &'static str,
    /// One or two letters on a strip; no two tests share them.
    pub mark: &'static str,
    /// How much its flags usually count.
    pub grade: Grade,
    /// What it looks for and what it lets pass, in two sentences at most.
    pub finds: &'static str,
    /// What may be set, each within a range.
    pub settings: &'static [Setting],
}

/// A number that a test goes by.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Setting {
    /// Its key in files and in the database.
    pub key: &'static str,
    /// What it means.
    pub meaning: &'static str,
    /// The value that stands where nobody sets another.
    pub default: f64,
    /// Legal values, with the unit.
    pub range: Range,
}

/// Makes the settings of one test: a struct of numbers, what stands where nobody sets one, and the list for people.
macro_rules! settings {
    ($(#[$doc:meta])* $name:ident {
        $($(#[doc = $meaning:literal])+ $key:ident: $default:literal in $min:literal..=$max:literal $unit:literal,)+
    }) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, serde::Serialize, serde::Deserialize)]
        #[serde(default, deny_unknown_fields)]
        pub struct $name {
            $($(#[doc = $meaning])+ pub $key: f64,)+
        }

        impl Default for $name {
            fn default() -> Self {
                Self { $($key: $default,)+ }
            }
        }

        impl $name {
            pub(super) const LIST: &'static [$crate::quality::Setting] = &[$($crate::quality::Setting {
                key: stringify!($key),
                meaning: concat!($($meaning),+).trim_ascii(),
                default: $default,
                range: $crate::units::Range { name: stringify!($key), unit: $unit, min: $min, max: $max },
            },)+];

            pub(super) fn at(&mut self, key: &str) -> Option<&mut f64> {
                match key {
                    $(stringify!($key) => Some(&mut self.$key),)+
                    _ => None,
                }
            }
        }
    };
}
pub(super) use settings;
