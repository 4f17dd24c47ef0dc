//! Messages of nodes into the record: each reading once, however often and in whichever order it comes. [`Intake`] is the one writer:
//! messages that wait together are made durable together.

mod intake;

pub use intake::Intake;

use ebrel_core::units::{Quantity, UnixSeconds};
use ebrel_formats::message::{Message, Refused};
use ebrel_store::batches::{Origin, Source};
use ebrel_store::readings::{Added, Reading};
use ebrel_store::{Store, StoreError, Unit};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::collections::hash_map::Entry;
use utoipa::ToSchema;

/// Refused records that an answer names; the others are counted.
const NAMED: usize = 100;

/// Ports and quantities of one node: more is a node that makes names up.
const MOST_STREAMS: usize = 1000;

/// What became of a message. `records` is the sum of new, known, contradicting and refused.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
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
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Reason {
    /// Which record of the message it was, counted from 1.
    pub record: usize,
    /// Why, as a sentence.
    pub reason: String,
}

/// Takes a message of a node in, all of it in one action: when this returns, it is on the disk.
///
/// # Errors
/// [`StoreError`] if there is no such node or the database refuses; nothing is stored then.
pub async fn receive(
    store: &Store,
    node: i64,
    message: &Message,
    received_at: UnixSeconds,
) -> Result<Receipt, StoreError> {
    let mut unit = store.unit().await?;
    let receipt = take_in(&mut unit, &mut KnownStreams::default(), node, message, received_at).await?;
    unit.commit().await?;
    Ok(receipt)
}

/// Streams of one node by quantity and port, each with its number and unit.
type NodeStreams = HashMap<Quantity, HashMap<String, (i64, String)>>;

/// Streams of nodes by node: they are never renamed nor removed.
#[derive(Default)]
struct KnownStreams {
    of: HashMap<i64, NodeStreams>,
}

/// Nodes of which the writer remembers the streams.
const MOST_NODES: usize = 2000;

impl KnownStreams {
    async fn of(&mut self, unit: &mut Unit, node: i64) -> Result<&mut NodeStreams, StoreError> {
        if self.of.len() >= MOST_NODES {
            self.of.clear();
        }
        match self.of.entry(node) {
            Entry::Occupied(known) => Ok(known.into_mut()),
            Entry::Vacant(new) => {
                let of_node = new.insert(HashMap::new());
                for s in unit.streams_of(node).await? {
                    of_node.entry(s.quantity).or_default().insert(s.port, (s.id, s.unit));
                }
                Ok(of_node)
            }
        }
    }
}

/// A message whose readings were led to their streams.
struct Led {
    readings: Vec<Reading>,
    refused: Vec<Refused>,
}

impl Led {
    /// Leads the readings of a message to the node's streams. A port or quantity that the node has not sent before becomes a stream,
    /// which waits to be placed.
    async fn of(unit: &mut Unit, streams: &mut KnownStreams, node: i64, message: &Message) -> Result<Self, StoreError> {
        let known = streams.of(unit, node).await?;
        let mut count: usize = known.values().map(HashMap::len).sum();
        let mut refused = message.refused.clone();
        let mut readings = Vec::with_capacity(message.readings.len());
        for reading in &message.readings {
            let (port, quantity) = (reading.port.as_str(), reading.quantity);
            let (stream, stored_in) = match known.get(&quantity).and_then(|ports| ports.get(port)) {
                Some((id, unit)) => (*id, unit.as_str()),
                None if count >= MOST_STREAMS => {
                    let reason =
                        format!("the node has sent {MOST_STREAMS} ports and quantities already; this is another");
                    refused.push(Refused { record: reading.record, reason });
                    continue;
                }
                None => {
                    let id = unit.ensure_stream(node, port, quantity, &reading.unit, None).await?;
                    count += 1;
                    known.entry(quantity).or_default().insert(port.to_owned(), (id, reading.unit.clone()));
                    (id, reading.unit.as_str())
                }
            };
            if stored_in == reading.unit {
                readings.push(Reading { stream, t: reading.time.0, raw: reading.value });
            } else {
                let (words, unit) = (quantity.words(), &reading.unit);
                let reason = format!("port {port} has sent {words} in {stored_in} so far, and this is in {unit}");
                refused.push(Refused { record: reading.record, reason });
            }
        }
        refused.sort_by_key(|r| r.record);
        Ok(Self { readings, refused })
    }

    /// What is said of the message, once this became of its readings.
    fn receipt(&self, Added { new, known, repeated, .. }: &Added) -> Receipt {
        let named = self.refused.iter().take(NAMED);
        Receipt {
            records: self.readings.len() + self.refused.len(),
            new: *new,
            known: *known,
            contradicting: *repeated,
            refused: self.refused.len(),
            reasons: named.map(|r| Reason { record: r.record, reason: format!("{}.", r.reason) }).collect(),
        }
    }
}

/// Takes a message into an action that is under way.
async fn take_in(
    unit: &mut Unit,
    streams: &mut KnownStreams,
    node: i64,
    message: &Message,
    received_at: UnixSeconds,
) -> Result<Receipt, StoreError> {
    let led = Led::of(unit, streams, node, message).await?;
    let added = match led.readings.is_empty() {
        true => Added::default(),
        false => unit.add_readings(&Origin::of(Source::Message, received_at), led.readings.clone()).await?,
    };
    Ok(led.receipt(&added))
}
