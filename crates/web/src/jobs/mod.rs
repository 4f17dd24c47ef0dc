//! What several rooms and commands do with a station's record.
//!
//! [`record`] assembles it (streams through placements and calibrations), [`window`] thins it for a screen,
//! [`reviewing`] runs the tests over it, [`importing`] brings files in, [`exporting`] takes it out, [`checking`]
//! runs the tests over a record package without a database, and [`catalogue`] knows the models.

pub mod catalogue;
pub mod checking;
pub mod exporting;
pub mod importing;
pub mod record;
pub mod reviewing;
pub mod window;
pub mod window_cache;
