//! From a question to a station that can be dug.
//!
//! A [`Draft`] is what somebody typed; [`assess`] reads it against the catalogue and says everything that follows:
//! the [`Plan`] with its quantities, the hole with its numbers, ports and wires, program, budgets, kit, dates, and
//! [`Remark`]s, each at the field it is about. Nothing is stored here and nothing is asked of a clock, so one edit is
//! one call.

mod assessment;
mod calendar;
mod catalogue;
mod choices;
mod depths;
mod design;
mod digging;
mod draft;
mod energy;
mod figures;
mod kit;
mod link;
mod methods;
mod plan;
mod planned;
mod ports;
mod program;
mod remark;
mod site;
mod steps;

pub use assessment::{Assessment, assess};
pub use calendar::{Entry, read_day, settling};
pub(crate) use calendar::{SETTLE_BLOCK_DAYS, SETTLE_DAYS, SETTLE_REPACKED_DAYS};
pub use catalogue::{Catalogue, CatalogueError, Conductor, Function, LoggerModel, Port, ProbeModel, Signal};
pub use choices::{Fill, Hardness, Machines, Method, Seat, Stay};
pub use depths::{Offer, OfferedDepth, offers};
pub use design::{ASKED, Design, DesignDraft, TreatmentDraft};
pub use digging::{Dig, Hole, LayerOut, Patch, PatchKind, Point, SetProbe, soil_out};
pub use draft::{BiasDraft, CandidateDraft, Draft, HorizonDraft, ProbeDraft, SentProgram, TableDraft, Typed};
pub use energy::{Energy, MONTHS, Share, Solar, long_span};
pub use figures::{Figure, FigureSpec, Figures};
pub use kit::{Cost, Item, Shelf};
pub use link::{Radio, SAFE_MARGIN_DB};
pub use methods::{Disagreement, Fit, Side, Suits, disagreements, fits};
pub use plan::Plan;
pub use planned::{PlannedProbe, Setting};
pub use ports::{POWER_ORDER, Plugged, Wire, Wiring};
pub use program::{Column, Program, RecordTable, Statistic, changes, keeps, span, spot_samples, usual_tables};
pub use remark::{Remark, Severity, Step};
pub use site::{CLEARANCES, CRITERIA, Criterion, ScoredSite, known_bias};
pub use steps::{SERVICES, WorkAt, WorkStep};
