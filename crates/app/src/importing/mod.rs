//! A logger file into a station: what its columns are ([`mapping`]), storing ([`store`]), the report, and setting an import aside
//! ([`withdrawing`]).

mod files;
pub mod mapping;
mod opening;
mod overlap;
mod report;
mod storing;
pub mod withdrawing;

pub use files::{PARTIAL, keep_file, kept_at};
pub use mapping::{
    ColumnPlan, HEAD_LINES, Mapping, SavedRecipe, find_node, first_mapping, fitted, head_of, hindrances, unit_fits,
};
pub use opening::{Begun, begin, begin_to_store, latest, remarks_of};
pub use overlap::{Overlap, overlaps};
pub use report::{Report, lines_or_cells};
pub use storing::{Job, Progress, store, store_read};
