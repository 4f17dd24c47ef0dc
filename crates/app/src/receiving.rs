//! Messages of nodes into the record: each reading once, however often and in whichever order it comes. [`Intake`] is the one writer:
//! messages that wait together are made durable together.

use ebrel_core::units::{Quantity, UnixSeconds};
use ebrel_formats::message::{Message, Refused};
use ebrel_store::batches::{Origin, Source};
use ebrel_store::readings::Reading;
use ebrel_store::{Store, StoreError, Unit};
use serde::{Deserialize, Serialize};
use std::collections::hash_map::Entry;
use std::collections::{HashMap, VecDeque};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::{mpsc, oneshot};
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

/// Takes a message into an action that is under way. A port or quantity that the node has not sent before becomes a stream, which
/// waits to be placed.
async fn take_in(
    unit: &mut Unit,
    streams: &mut KnownStreams,
    node: i64,
    message: &Message,
    received_at: UnixSeconds,
) -> Result<Receipt, StoreError> {
    let known = streams.of(unit, node).await?;
    let mut count: usize = known.values().map(HashMap::len).sum();
    let mut refused = message.refused.clone();
    let mut taken = Vec::with_capacity(message.readings.len());
    for reading in &message.readings {
        let (port, quantity) = (reading.port.as_str(), reading.quantity);
        let (stream, stored_in) = match known.get(&quantity).and_then(|ports| ports.get(port)) {
            Some((id, unit)) => (*id, unit.as_str()),
            None if count >= MOST_STREAMS => {
                let reason = format!("the node has sent {MOST_STREAMS} ports and quantities already; this is another");
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
            taken.push(Reading { stream, t: reading.time.0, raw: reading.value });
        } else {
            let (words, unit) = (quantity.words(), &reading.unit);
            let reason = format!("port {port} has sent {words} in {stored_in} so far, and this is in {unit}");
            refused.push(Refused { record: reading.record, reason });
        }
    }
    let added = if taken.is_empty() {
        ebrel_store::readings::Added::default()
    } else {
        unit.add_readings(&Origin::of(Source::Message, received_at), taken).await?
    };
    refused.sort_by_key(|r| r.record);
    let reasons = refused.iter().take(NAMED).map(|r| Reason { record: r.record, reason: format!("{}.", r.reason) });
    Ok(Receipt {
        records: message.readings.len() + message.refused.len(),
        new: added.new,
        known: added.known,
        contradicting: added.repeated,
        reasons: reasons.collect(),
        refused: refused.len(),
    })
}

/// Messages that wait for the writer: more, and who sends waits.
const WAITING: usize = 256;

/// Readings that one commit makes durable: more would keep other writers waiting for too long.
const AT_ONCE: usize = 20_000;

/// A message that waits, and where its answer goes.
struct Waiting {
    node: i64,
    message: Message,
    received_at: UnixSeconds,
    answer: oneshot::Sender<Result<Receipt, StoreError>>,
}

/// The one writer of messages. Those that wait while it writes are written next, with one commit for all of them: each is answered
/// after that commit.
pub struct Intake {
    to_writer: mpsc::Sender<Waiting>,
    /// When the last messages were handed to the writer, at most [`MANY`], the newest last.
    last: Mutex<VecDeque<Instant>>,
}

/// So many messages
const MANY: usize = 20;
/// within this are a stream: nodes that catch up, and not a network on a usual day.
const STREAM: Duration = Duration::from_secs(2);

impl Intake {
    /// Starts the writer on the current runtime; it ends when the intake is dropped and all that waits is written.
    #[must_use]
    pub fn start(store: Store) -> Self {
        let (to_writer, waiting) = mpsc::channel(WAITING);
        tokio::spawn(write_what_waits(store, waiting));
        Self { to_writer, last: Mutex::default() }
    }

    /// Whether messages stream in just now.
    #[must_use]
    pub fn is_busy(&self) -> bool {
        let last = self.last.lock().unwrap_or_else(PoisonError::into_inner);
        last.len() == MANY && last.front().is_some_and(|first| first.elapsed() <= STREAM)
    }

    fn note(&self) {
        let mut last = self.last.lock().unwrap_or_else(PoisonError::into_inner);
        last.push_back(Instant::now());
        if last.len() > MANY {
            last.pop_front();
        }
    }

    /// As [`receive`], with others in one commit.
    ///
    /// # Errors
    /// [`StoreError`] if there is no such node or the database refuses; nothing of this message is stored then.
    pub async fn receive(&self, node: i64, message: Message, received_at: UnixSeconds) -> Result<Receipt, StoreError> {
        let (answer, answered) = oneshot::channel();
        let waiting = Waiting { node, message, received_at, answer };
        let stopped = || StoreError::Rule("Ebrel is stopping: send it again.".into());
        self.note();
        self.to_writer.send(waiting).await.map_err(|_| stopped())?;
        answered.await.unwrap_or_else(|_| Err(stopped()))
    }
}

async fn write_what_waits(store: Store, mut waiting: mpsc::Receiver<Waiting>) {
    let mut streams = KnownStreams::default();
    while let Some(first) = waiting.recv().await {
        let mut readings = first.message.readings.len();
        let mut group = vec![first];
        while readings < AT_ONCE
            && let Ok(next) = waiting.try_recv()
        {
            readings += next.message.readings.len();
            group.push(next);
        }
        if let Ok(receipts) = write_together(&store, &mut streams, &group).await {
            for (waiting, receipt) in group.into_iter().zip(receipts) {
                answer(waiting.answer, Ok(receipt));
            }
            continue;
        }
        // What was made on the way is not there.
        streams = KnownStreams::default();
        // One alone, or one that spoils it for the others: each stands or falls for itself.
        for Waiting { node, message, received_at, answer: to } in group {
            answer(to, receive(&store, node, &message, received_at).await);
        }
    }
}

/// Who asked may have gone away meanwhile: what was written stays written, and is known when it is sent again.
fn answer(to: oneshot::Sender<Result<Receipt, StoreError>>, receipt: Result<Receipt, StoreError>) {
    if to.send(receipt).is_err() {
        tracing::debug!("a sender did not wait for its answer");
    }
}

async fn write_together(
    store: &Store,
    streams: &mut KnownStreams,
    group: &[Waiting],
) -> Result<Vec<Receipt>, StoreError> {
    let mut unit = store.unit().await?;
    let mut receipts = Vec::with_capacity(group.len());
    for waiting in group {
        receipts.push(take_in(&mut unit, streams, waiting.node, &waiting.message, waiting.received_at).await?);
    }
    unit.commit().await?;
    Ok(receipts)
}
