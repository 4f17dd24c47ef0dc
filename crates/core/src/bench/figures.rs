//! What stands beside a sample as it is typed.

use serde::Serialize;

/// What stands behind a sample's fields: figures, or what is wrong at which field.
#[derive(Debug, Clone, Default, Serialize)]
pub struct RowFigures {
    /// Gravimetric water content with its uncertainty.
    pub w: String,
    /// Bulk density with its uncertainty.
    pub density: String,
    /// Volumetric water content with its uncertainty.
    pub theta: String,
    /// Mean of the raw readings, where several were typed.
    pub mean: String,
    /// The last weighing out of the oven, where several were typed.
    pub last: String,
    /// Raw reading that the record has, where none was typed.
    pub recorded: String,
    /// Field with an error: "raw", "tare", ...
    pub field: String,
    /// The error, or a warning.
    pub message: String,
    /// Whether the message is a warning and the sample counts.
    pub warning: bool,
    /// Whether all but its dry mass is there.
    pub waits: bool,
}
