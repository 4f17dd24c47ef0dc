//! What is known of a station's clocks, and what may be assumed besides to see what would come of it.

use ebrel_core::field::{ClockCheck, Deed, Log};
use ebrel_core::quality::Mend;
use ebrel_store::{Store, StoreError};

/// What is known of a node's clock at one moment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NodeCheck {
    /// The node.
    pub node: String,
    /// What it showed, and what it was.
    pub check: ClockCheck,
    /// Whether no clock was held against it: the grid of its own program tells it, and somebody believed that.
    pub by_grid: bool,
}

impl NodeCheck {
    /// What a mend assumes of a clock.
    #[must_use]
    pub fn of_mend(mend: &Mend) -> Vec<Self> {
        let Mend::Clock { node, checks } = mend else { return Vec::new() };
        checks.iter().map(|check| Self { node: node.clone(), check: *check, by_grid: true }).collect()
    }
}

/// What is assumed of a station besides what is noted, to see what would come of it.
#[derive(Debug, Clone, Default)]
pub struct Assumed {
    /// Checks of its clocks.
    pub checks: Vec<NodeCheck>,
    /// A calibration that is used no more.
    pub retired: Option<i64>,
}

/// Checks of clocks in the logs of a station, corrections applied, and those of mends that stand, in order of time.
pub(super) async fn clock_checks(store: &Store, station: i64) -> Result<Vec<NodeCheck>, StoreError> {
    let log = Log::of(&store.clock_entries(station).await?);
    let checks = log.stands.into_iter().filter_map(|e| match e.deed {
        Deed::Clock { node, check } => Some(NodeCheck { node, check, by_grid: false }),
        _ => None,
    });
    let mut checks: Vec<_> = checks.collect();
    checks.extend(store.standing_mends(station).await?.iter().flat_map(NodeCheck::of_mend));
    checks.sort_by_key(|c| c.check.truth);
    Ok(checks)
}
