//! What Ebrel does, without HTTP and HTML. Pages and commands are two faces of it.
//!
//! [`findings`] makes answers of a record, [`bringing`] takes record packages in whole, [`by_hand`] reads pasted tables, [`marks`] has what happened for the strips, [`contradictions`] joins what came twice, [`provenance`] leads a value back to its origin, [`table`] lists readings, [`safety`] makes backups and looks a data directory through, [`receiving`] takes messages in, [`network`] says how nodes are, [`standing`] how stations stand,
//! [`record`] assembles a station's record (streams through placements and calibrations), [`window`] thins it for a screen,
//! [`reviewing`] runs the tests over it, [`training`] lets people practise on made-up records, [`importing`] brings files in, [`exporting`] takes it out, [`checking`]
//! runs the tests over a record package without a database, [`planning`] loads and keeps a station's plan, and [`demo`] makes
//! the study to look around in.

pub mod bringing;
pub mod by_hand;
pub mod checking;
pub mod contradictions;
pub mod demo;
pub mod difference;
pub mod exporting;
pub mod field;
pub mod findings;
pub mod importing;
pub mod marks;
pub mod network;
pub mod planning;
pub mod provenance;
pub mod receiving;
pub mod record;
pub mod repairing;
pub mod reviewing;
pub mod safety;
pub mod stamped;
pub mod standing;
pub mod table;
pub mod training;
pub mod window;
