//! Messages of nodes into the record: each reading once, however often and in whichever order it comes.

use ebrel_core::units::{Quantity, UnixSeconds};
use ebrel_formats::message::{Message, Refused};
use ebrel_store::batches::{Origin, Source};
use ebrel_store::readings::Reading;
use ebrel_store::{Store, StoreError};
use serde::Serialize;
use std::collections::HashMap;
use utoipa::ToSchema;

/// Refused records that an answer names; the others are counted.
const NAMED: usize = 100;

/// Ports and quantities of one node: more is a node that makes names up.
const MOST_STREAMS: usize = 1000;

/// What became of a message. `records` is the sum of new, known, contradicting and refused.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, ToSchema)]
pub struct Receipt {
    /// Records of the message.
    pub records: usize,
    /// Readings that are stored now.
    pub new: usize,
    /// Readings that were known with the same value: nothing changed.
    pub known: usize,
    /// Readings that were known with another value: the first stands, these are kept beside it.
    pub contradicting: usize,
    /// Records that could not be taken.
    pub refused: usize,
    /// The first of them, with their reasons.
    pub reasons: Vec<Reason>,
}

/// Why a record could not be taken.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct Reason {
    /// Which record of the message it was, counted from 1.
    pub record: usize,
    /// Why, as a sentence.
    pub reason: String,
}

/// Takes a message of a node in, all of it in one action: when this returns, it is on the disk. A port or quantity that the node has
/// not sent before becomes a stream, which waits to be placed.
///
/// # Errors
/// [`StoreError`] if there is no such node or the database refuses; nothing is stored then.
pub async fn receive(
    store: &Store,
    node: i64,
    message: Message,
    received_at: UnixSeconds,
) -> Result<Receipt, StoreError> {
    let Message { readings, mut refused } = message;
    let records = readings.len() + refused.len();
    let mut unit = store.unit().await?;
    let mut known: HashMap<(String, Quantity), (i64, String)> = HashMap::new();
    for stream in unit.streams_of(node).await? {
        known.insert((stream.port, stream.quantity), (stream.id, stream.unit));
    }
    let mut taken = Vec::with_capacity(readings.len());
    for reading in readings {
        let key = (reading.port, reading.quantity);
        let (stream, stored_in) = match known.get(&key) {
            Some(known) => known,
            None if known.len() >= MOST_STREAMS => {
                let reason = format!("the node has sent {MOST_STREAMS} ports and quantities already; this is another");
                refused.push(Refused { record: reading.record, reason });
                continue;
            }
            None => {
                let id = unit.ensure_stream(node, &key.0, key.1, &reading.unit, None).await?;
                known.entry(key.clone()).or_insert((id, reading.unit.clone()))
            }
        };
        if *stored_in == reading.unit {
            taken.push(Reading { stream: *stream, t: reading.time.0, raw: reading.value });
        } else {
            let (port, quantity) = (&key.0, key.1.words());
            let reason =
                format!("port {port} has sent {quantity} in {stored_in} so far, and this is in {}", reading.unit);
            refused.push(Refused { record: reading.record, reason });
        }
    }
    let added = if taken.is_empty() {
        ebrel_store::readings::Added::default()
    } else {
        unit.add_readings(&Origin::of(Source::Message, received_at), taken).await?
    };
    unit.commit().await?;
    refused.sort_by_key(|r| r.record);
    let reasons = refused.iter().take(NAMED).map(|r| Reason { record: r.record, reason: format!("{}.", r.reason) });
    Ok(Receipt {
        records,
        new: added.new,
        known: added.known,
        contradicting: added.repeated,
        reasons: reasons.collect(),
        refused: refused.len(),
    })
}
