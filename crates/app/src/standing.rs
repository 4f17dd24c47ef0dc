//! How the stations of a study stand, for its first page: each thing is asked once for all of them.

use crate::network::heard;
use crate::planning::{PlanError, Progress, progress};
use crate::record::Outlines;
use ebrel_core::network::Heard;
use ebrel_core::soil::Profile;
use ebrel_core::units::{Quantity, UnixSeconds};
use ebrel_store::flags::WaitingFlag;
use ebrel_store::remarks::Remark;
use ebrel_store::stations::Station;
use ebrel_store::studies::Study;
use ebrel_store::{Store, StoreError};
use std::collections::{HashMap, HashSet};

/// More things that wait at one station are not looked through for what is wrong now.
const MOST_WAITING: i64 = 200;

/// How a station stands.
pub struct Standing {
    /// The place itself.
    pub station: Station,
    /// Its soil.
    pub soil: Profile,
    /// How many of its channels still show raw output.
    pub raw: usize,
    /// First and last reading, if there is one.
    pub extent: Option<(UnixSeconds, UnixSeconds)>,
    /// How many things wait for a verdict.
    pub waiting: usize,
    /// The most damaging of them, each with the name of its channel; not all, where there are many.
    pub worst: Vec<(WaitingFlag, String)>,
    /// Nodes that sent by themselves and are silent now, by number and name.
    pub silent: Vec<(i64, String, Heard)>,
    /// What somebody wants a second opinion on, the newest first.
    pub asked: Vec<Remark>,
    /// How far its plan is.
    pub plan: Progress,
}

/// What came at the stations of a study: all that readings alone tell.
pub struct Arrived {
    /// First and last reading of a station, by its number.
    extents: HashMap<i64, (UnixSeconds, UnixSeconds)>,
    /// When a node that sends by itself was heard, by its number.
    heard: HashMap<i64, Heard>,
}

/// What came at the stations of a study until now.
///
/// # Errors
/// [`StoreError`] if the database cannot be read.
pub async fn arrived(store: &Store, study: &Study, now: UnixSeconds) -> Result<Arrived, StoreError> {
    let stations: Vec<i64> = store.stations(study.id).await?.iter().map(|s| s.id).collect();
    let streams = store.streams_of(&stations).await?;
    Ok(Arrived {
        extents: store.extents_of(&stations).await?,
        heard: heard(store, streams.values().flatten(), now).await?,
    })
}

/// How all stations of a study stand, in their order.
///
/// # Errors
/// [`PlanError`] if the database or a plan in it cannot be read.
pub async fn standing(store: &Store, study: &Study, arrived: &Arrived) -> Result<Vec<Standing>, PlanError> {
    let stations = store.stations(study.id).await?;
    let numbers: Vec<i64> = stations.iter().map(|s| s.id).collect();
    let outlines = Outlines::load(store, &numbers).await?;
    let (waiting, mut worst, ask) = tokio::try_join!(
        store.waiting(study.id),
        store.worst_waiting(study.id, MOST_WAITING),
        store.stations_that_asked(study.id),
    )?;
    let plans = progress(store, study, &stations).await?;
    let mut all = Vec::with_capacity(stations.len());
    for station in stations {
        let id = station.id;
        let channels = outlines.channels(id);
        let named = |flag: WaitingFlag| {
            let channel = channels.iter().find(|c| c.channel.stream.id == flag.stream_id);
            (flag, channel.map(|c| c.channel.label()).unwrap_or_default())
        };
        let mut seen = HashSet::new();
        let nodes = outlines.streams(id).iter().filter(|s| seen.insert(s.node_id));
        let silent = nodes.filter_map(|s| {
            let heard = arrived.heard.get(&s.node_id).filter(|heard| heard.is_silent())?;
            Some((s.node_id, s.node.clone(), *heard))
        });
        let remarks = if ask.contains(&id) { store.remarks(id).await? } else { Default::default() };
        let asked = remarks.all().iter().rev().filter(|r| r.open).map(|r| r.remark.clone());
        all.push(Standing {
            soil: outlines.soil(id),
            raw: channels.iter().filter(|c| c.quantity() == Quantity::RawOutput).count(),
            extent: arrived.extents.get(&id).copied(),
            waiting: waiting.get(&id).copied().unwrap_or(0),
            worst: worst.remove(&id).unwrap_or_default().into_iter().map(named).collect(),
            silent: silent.collect(),
            asked: asked.collect(),
            plan: plans.get(&id).copied().unwrap_or(Progress::NotBegun),
            station,
        });
    }
    Ok(all)
}
