//! Mends of causes: what they would change, shown before; made, kept, and taken back. No raw reading is touched.

use super::difference::{Difference, difference};
use super::record::{Assumed, NodeCheck, SET_ANEW, StationRecord};
use super::reviewing;
use ebrel_core::quality::Mend;
use ebrel_core::units::{DepthCm, Quantity, SpanSeconds, UnixSeconds};
use ebrel_store::calibrations::{Adopted, Retirement, Subject};
use ebrel_store::flags::StoredCause;
use ebrel_store::hands::{Hand, HandDeed};
use ebrel_store::placements::{NewPlacement, Placement};
use ebrel_store::repairs::{Changed, NewRepair, StoredRepair};
use ebrel_store::{Store, StoreError};

/// A mend that is proposed, with what would come of it.
pub struct Proposal {
    /// The cause.
    pub cause: StoredCause,
    /// What it would change: placements as they are, and as they would be.
    pub changes: Vec<Change>,
    /// The calibration that would be used no more.
    pub retired: Option<Adopted>,
    /// The record as it is.
    pub before: StationRecord,
    /// The record as it would be.
    pub after: StationRecord,
    /// What of the findings would change.
    pub difference: Difference,
}

/// One placement that a mend would change.
#[derive(Debug, Clone, PartialEq)]
pub struct Change {
    /// The placement as it is; `None`: a new one.
    pub was: Option<Placement>,
    /// What it would say.
    pub new: Placement,
}

/// The cause of a station, with its mend; of a wrong depth the one that somebody knows better than the wave, cm.
///
/// # Errors
/// [`StoreError::Rule`] if the tests ran anew meanwhile and it is no more, or has nothing to mend.
async fn cause(
    store: &Store,
    station: i64,
    id: i64,
    depth: Option<DepthCm>,
) -> Result<(StoredCause, Mend), StoreError> {
    let cause = store.causes(station).await?.into_iter().find(|c| c.id == id);
    let gone =
        || StoreError::Rule("The tests have run anew since, and this cause is not among what they say now.".into());
    let mut cause = cause.ok_or_else(gone)?;
    if let (Some(Mend::Depth { depth_cm, .. }), Some(known)) = (&mut cause.mend, depth) {
        *depth_cm = known.get();
    }
    let nothing = || StoreError::Rule("Ebrel knows no mend for this cause: what it needs is done in the field.".into());
    let mend = cause.mend.clone().ok_or_else(nothing)?;
    Ok((cause, mend))
}

/// What a mend would do, tried on a copy.
///
/// # Errors
/// [`StoreError::Rule`] with a sentence if it cannot be made as things stand.
pub async fn propose(store: &Store, station: i64, id: i64, depth: Option<DepthCm>) -> Result<Proposal, StoreError> {
    let (cause, mend) = cause(store, station, id, depth).await?;
    let before = StationRecord::load(store, station).await?;
    let placements = store.placements(station).await?;
    let changes = changes(&before, &placements, &mend)?;
    let retired = contradicted(store, &before, &mend).await?;
    let assumed = Assumed { checks: NodeCheck::of_mend(&mend), retired: retired.as_ref().map(|c| c.id) };
    let after = StationRecord::load_as(store, station, Some(&applied(&placements, &changes)), &assumed).await?;
    fits(&after, &mend)?;
    let neighbours = before.neighbours(store).await?;
    let settings = store.settings(before.study.id, station).await?;
    let (flags, decisions) = (store.flags(station).await?, store.verdicts(station).await?);
    let tried = move || {
        let findings = after.check(&neighbours, &settings);
        let difference = difference(&before, &flags, &after, &findings, &decisions);
        Proposal { cause, changes, retired, before, after, difference }
    };
    tokio::task::spawn_blocking(tried).await.map_err(|e| StoreError::Rule(format!("The trial broke off: {e}")))
}

/// The calibration that a mend takes out of use.
async fn contradicted(store: &Store, record: &StationRecord, mend: &Mend) -> Result<Option<Adopted>, StoreError> {
    let Mend::Retire { node, port, at } = mend else { return Ok(None) };
    let in_force = store.calibrations_at(record.station.id).await?;
    let here = record.at_port(node, port, *at).find(|c| c.channel.stream.quantity == Quantity::RawOutput);
    let holding = here.and_then(|c| {
        let probe = &c.channel.placement.probe;
        in_force.holding(probe.id, &probe.model, c.horizon.as_ref(), *at)
    });
    match holding {
        None => {
            Err(StoreError::Rule(format!("No calibration of the probe at port {port} of {node} holds at that time.")))
        }
        Some(adopted) if matches!(adopted.subject, Subject::Model(_)) => Err(StoreError::Rule(format!(
            "The calibration of the probe at port {port} is that of its whole model: calibrate this probe itself, or retire the model's calibration on its page."
        ))),
        Some(adopted) => Ok(Some(adopted.clone())),
    }
}

/// Whether checks that a mend notes make a clock together with those that are known.
fn fits(after: &StationRecord, mend: &Mend) -> Result<(), StoreError> {
    let Mend::Clock { node, .. } = mend else { return Ok(()) };
    match after.clock(node) {
        Some(Err(e)) => Err(StoreError::Rule(format!("The clock cannot be corrected so: {e}."))),
        Some(Ok(_)) | None => Ok(()),
    }
}

/// Placements with changes made.
fn applied(placements: &[Placement], changes: &[Change]) -> Vec<Placement> {
    let mut all = placements.to_vec();
    for (i, change) in changes.iter().enumerate() {
        match &change.was {
            Some(was) => all.iter_mut().filter(|p| p.id == was.id).for_each(|p| p.clone_from(&change.new)),
            // A number of its own, so that they are told apart.
            None => all.push(Placement { id: -1 - i as i64, ..change.new.clone() }),
        }
    }
    all
}

fn changes(record: &StationRecord, placements: &[Placement], mend: &Mend) -> Result<Vec<Change>, StoreError> {
    let here = |node: &str, port: &str, at: UnixSeconds| {
        let node_id = record.channels.iter().find(|c| c.channel.stream.node == node).map(|c| c.channel.stream.node_id);
        let found = placements.iter().find(|p| Some(p.node_id) == node_id && p.port == port && p.holds(at));
        found.ok_or_else(|| StoreError::Rule(format!("No probe is noted at port {port} of {node} at that time.")))
    };
    match mend {
        Mend::Clock { .. } | Mend::Retire { .. } => Ok(Vec::new()),
        Mend::Depth { node, port, at, depth_cm } => {
            let was = here(node, port, *at)?;
            DepthCm::new(*depth_cm).map_err(|e| StoreError::Rule(e.to_string()))?;
            let new = Placement { depth_cm: Some(*depth_cm), ..was.clone() };
            Ok(vec![Change { was: Some(was.clone()), new }])
        }
        Mend::Anew { node, port, at } => {
            let was = here(node, port, *at)?;
            if was.starts >= *at {
                return Err(StoreError::Rule(format!("The placement at port {port} begins there already.")));
            }
            let note = if was.note.is_empty() { SET_ANEW.to_owned() } else { format!("{SET_ANEW}; {}", was.note) };
            let since = Placement { id: 0, starts: *at, note, ..was.clone() };
            let until = Placement { ends: Some(*at), ..was.clone() };
            Ok(vec![Change { was: Some(was.clone()), new: until }, Change { was: None, new: since }])
        }
        Mend::Exchange { node, ports: [a, b], from, to } => {
            let (a, b) = (here(node, a, *from)?, here(node, b, *from)?);
            let end = *to + SpanSeconds(1);
            for p in [a, b] {
                if p.ends.is_some_and(|ends| ends < end) {
                    return Err(StoreError::Rule(format!(
                        "The placement of {} at port {} ends within that time: exchange the two by hand, under Placements.",
                        p.probe.serial, p.port
                    )));
                }
            }
            Ok(exchanged(a, b, *from, end).into_iter().chain(exchanged(b, a, *from, end)).collect())
        }
    }
}

/// The placements of one port of which the other's probe was in it from `from` to `end`.
fn exchanged(own: &Placement, other: &Placement, from: UnixSeconds, end: UnixSeconds) -> Vec<Change> {
    let guest = Placement {
        id: 0,
        node_id: own.node_id,
        port: own.port.clone(),
        starts: from,
        ends: Some(end),
        ..other.clone()
    };
    let mut changes = Vec::new();
    // Exchanged from the first reading on: there is no part before it.
    if own.starts < from {
        changes.push(Change { was: Some(own.clone()), new: Placement { ends: Some(from), ..own.clone() } });
        changes.push(Change { was: None, new: guest });
        if own.ends.is_none_or(|ends| ends > end) {
            changes.push(Change { was: None, new: Placement { id: 0, starts: end, ..own.clone() } });
        }
    } else {
        if own.ends.is_none_or(|ends| ends > end) {
            changes.push(Change { was: Some(own.clone()), new: Placement { starts: end, ..own.clone() } });
            changes.push(Change { was: None, new: guest });
        } else {
            changes.push(Change { was: Some(own.clone()), new: Placement { id: own.id, ..guest } });
        }
    }
    changes
}

/// Makes a mend and runs the tests anew.
///
/// # Errors
/// As [`propose`]; [`StoreError::Stale`] if a placement was changed meanwhile.
pub async fn mend(
    store: &Store,
    station: i64,
    id: i64,
    (depth, why): (Option<DepthCm>, &str),
    (by, at): (&str, UnixSeconds),
) -> Result<i64, StoreError> {
    // The write lock is held first: what is read now nobody changes, and a cause stands until the tests have run anew.
    let mut unit = store.unit().await?;
    let (cause, mend) = cause(store, station, id, depth).await?;
    if store.standing_mends(station).await?.contains(&mend) {
        return Err(StoreError::Rule("This has been mended meanwhile: look under What was decided.".into()));
    }
    let mut record = StationRecord::outline(store, station).await?;
    let placements = store.placements(station).await?;
    let changes = changes(&record, &placements, &mend)?;
    record.clock_checks.extend(NodeCheck::of_mend(&mend));
    fits(&record, &mend)?;
    if let Some(adopted) = contradicted(store, &record, &mend).await? {
        unit.retire(adopted.id, &retirement(by, at, why)).await?;
    }
    let mut changed = Vec::new();
    // What ends or begins makes room first; what is new comes then.
    for change in changes.iter().filter(|c| c.was.is_some()).chain(changes.iter().filter(|c| c.was.is_none())) {
        let new: NewPlacement = change.new.given();
        let (id, deed) = match &change.was {
            Some(was) => {
                unit.correct_placement(was.id, &was.given(), &new).await?;
                (was.id, HandDeed::Corrected)
            }
            None => (unit.place(&new).await?, HandDeed::Placed),
        };
        unit.note_hand(id, &Hand { deed, by: by.to_owned(), at }).await?;
        changed.push(Changed { id, was: change.was.as_ref().map(Placement::given), new });
    }
    let kept = unit
        .keep_repair(&NewRepair {
            station,
            kind: cause.kind,
            mend,
            cause: cause.reason,
            why: why.to_owned(),
            changed,
            by: by.to_owned(),
            at,
        })
        .await?;
    unit.commit().await?;
    reviewing::run(store, station).await?;
    Ok(kept)
}

/// How a calibration is retired by a mend.
fn retirement(by: &str, at: UnixSeconds, why: &str) -> Retirement {
    Retirement { at, by: by.to_owned(), why: format!("contradicted by what was measured by hand: {why}") }
}

/// The calibration that a mend took out of use, and how; [`StoreError::Stale`] if it is in use, or was retired otherwise.
async fn retired(store: &Store, repair: &NewRepair) -> Result<Option<(i64, Retirement)>, StoreError> {
    let Mend::Retire { node, port, at } = &repair.mend else { return Ok(None) };
    let so = retirement(&repair.by, repair.at, &repair.why);
    let record = StationRecord::outline(store, repair.station).await?;
    let here = record.at_port(node, port, *at).next().ok_or(StoreError::Stale)?;
    let all = store.calibrations(&Subject::Probe(here.channel.placement.probe.id)).await?;
    let found = all.into_iter().find(|c| c.retired.as_ref() == Some(&so));
    found.map(|c| Some((c.id, so))).ok_or(StoreError::Stale)
}

/// Takes a mend back and runs the tests anew.
///
/// # Errors
/// [`StoreError::Rule`] if there is no such mend; [`StoreError::Stale`] if it was taken back, or a placement of it changed since.
pub async fn undo(store: &Store, station: i64, id: i64, by: &str, at: UnixSeconds) -> Result<StoredRepair, StoreError> {
    let repair = store.repairs(station).await?.into_iter().find(|r| r.id == id);
    let repair = repair.ok_or_else(|| StoreError::Rule("There is no such mend at this station.".into()))?;
    let mut unit = store.unit().await?;
    unit.note_repair_undone(id, by, at).await?;
    if let Some((calibration, so)) = retired(store, &repair.repair).await? {
        unit.take_up_again(calibration, &so).await?;
    }
    for change in repair.repair.changed.iter().filter(|c| c.was.is_none()) {
        unit.withdraw_placement(change.id, &change.new).await?;
    }
    for change in &repair.repair.changed {
        let Some(was) = &change.was else { continue };
        unit.correct_placement(change.id, &change.new, was).await?;
        unit.note_hand(change.id, &Hand { deed: HandDeed::Corrected, by: by.to_owned(), at }).await?;
    }
    unit.commit().await?;
    reviewing::run(store, station).await?;
    Ok(repair)
}
