//! The one writer of messages. A message that comes alone is sorted into the record and answered then. Where many come at once, each
//! would touch a page of every one of its streams: they are kept in the inbox together, answered, and sorted in a moment later.

use super::{KnownStreams, Led, Receipt, receive, take_in};
use ebrel_core::units::UnixSeconds;
use ebrel_formats::message::Message;
use ebrel_store::readings::{Added, Reading};
use ebrel_store::{Store, StoreError};
use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::{Notify, mpsc, oneshot};
use tokio::time::timeout;

/// Messages that wait for the writer: more, and who sends waits.
const WAITING: usize = 256;

/// Readings that one commit makes durable: more would keep other writers waiting for too long.
const AT_ONCE: usize = 20_000;

/// From so many messages on that wait together, of few readings each, they go by the inbox until it is sorted in; larger ones are
/// ranges already.
const MANY_TOGETHER: usize = 4;
const FEW_READINGS: usize = 50;

/// The inbox is sorted in when nothing came for this long,
const REST: Duration = Duration::from_millis(20);
/// at the latest when its first message has waited for this long, or as many readings wait.
const LONGEST: Duration = Duration::from_secs(1);
const MOST: usize = 200_000;

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
    /// Starts the writer on the current runtime; it ends when the intake is dropped and all that waits is written. Whenever the record
    /// got something, `brought` is notified.
    #[must_use]
    pub fn start(store: Store, brought: Arc<Notify>) -> Self {
        let (to_writer, waiting) = mpsc::channel(WAITING);
        let writer = Writer { store, streams: KnownStreams::default(), kept: Kept::default(), brought };
        tokio::spawn(writer.run(waiting));
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

    /// As [`receive`], with others in one commit. Where many come at once the record shows it a moment later.
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

/// What is in the inbox: the value that stands at each stream and time, and since when the first of it waits.
#[derive(Default)]
struct Kept {
    values: HashMap<(i64, i64), f64>,
    since: Option<Instant>,
    /// When sorting it in failed last: it is not tried again at once.
    failed: Option<Instant>,
}

impl Kept {
    /// How long the writer may wait for the next message before it sorts in.
    fn patience(&self) -> Option<Duration> {
        let left = |since: Instant| LONGEST.saturating_sub(since.elapsed());
        let longest = left(self.since?);
        Some(self.failed.map_or(REST.min(longest), left))
    }

    fn is_due(&self) -> bool {
        let rests = self.failed.is_some_and(|failed| failed.elapsed() < LONGEST);
        !rests && self.since.is_some_and(|s| s.elapsed() >= LONGEST || self.values.len() >= MOST)
    }
}

struct Writer {
    store: Store,
    streams: KnownStreams,
    kept: Kept,
    brought: Arc<Notify>,
}

impl Writer {
    async fn run(mut self, mut waiting: mpsc::Receiver<Waiting>) {
        loop {
            let first = match self.kept.patience() {
                None => waiting.recv().await,
                Some(patience) => match timeout(patience, waiting.recv()).await {
                    Ok(first) => first,
                    Err(_) => {
                        self.sort_in().await;
                        continue;
                    }
                },
            };
            let Some(first) = first else { break };
            let mut readings = first.message.readings.len();
            let mut group = vec![first];
            while readings < AT_ONCE
                && let Ok(next) = waiting.try_recv()
            {
                readings += next.message.readings.len();
                group.push(next);
            }
            self.write(group, readings).await;
            if self.kept.is_due() {
                self.sort_in().await;
            }
        }
        if self.kept.since.is_some() {
            self.sort_in().await;
        }
    }

    async fn write(&mut self, group: Vec<Waiting>, readings: usize) {
        let waits = self.kept.since.is_some();
        let by_inbox = (waits || group.len() >= MANY_TOGETHER) && readings <= group.len() * FEW_READINGS;
        if waits && !by_inbox {
            self.sort_in().await;
        }
        let receipts = if by_inbox { self.keep(&group).await } else { self.write_together(&group).await };
        if let Ok(receipts) = receipts {
            for (waiting, receipt) in group.into_iter().zip(receipts) {
                answer(waiting.answer, Ok(receipt));
            }
            return;
        }
        // What was made on the way is not there.
        self.streams = KnownStreams::default();
        if waits && by_inbox {
            self.sort_in().await;
        }
        // One alone, or one that spoils it for the others: each stands or falls for itself.
        for Waiting { node, message, received_at, answer: to } in group {
            let receipt = receive(&self.store, node, &message, received_at).await;
            self.tell(&receipt);
            answer(to, receipt);
        }
    }

    /// Sorts messages into the record, all in one action.
    async fn write_together(&mut self, group: &[Waiting]) -> Result<Vec<Receipt>, StoreError> {
        let mut unit = self.store.unit().await?;
        let mut receipts = Vec::with_capacity(group.len());
        for Waiting { node, message, received_at, .. } in group {
            receipts.push(take_in(&mut unit, &mut self.streams, *node, message, *received_at).await?);
        }
        unit.commit().await?;
        self.tell(&receipts);
        Ok(receipts)
    }

    /// Keeps messages in the inbox, all in one action: what is known of them stands in the record or waits there already.
    async fn keep(&mut self, group: &[Waiting]) -> Result<Vec<Receipt>, StoreError> {
        let mut unit = self.store.unit().await?;
        let mut led = Vec::with_capacity(group.len());
        for Waiting { node, message, .. } in group {
            led.push(Led::of(&mut unit, &mut self.streams, *node, message).await?);
        }
        let each = led.iter().flat_map(|l| &l.readings).map(|r| (r.stream, r.t));
        let asked: Vec<(i64, i64)> = each.filter(|key| !self.kept.values.contains_key(key)).collect();
        let mut stands = unit.standing(&asked).await?;
        let mut fresh = Vec::new();
        let (mut receipts, mut messages) = (Vec::with_capacity(group.len()), Vec::with_capacity(group.len()));
        for (led, waiting) in led.iter().zip(group) {
            let mut added = Added::default();
            let tell = |r: &&Reading| {
                let key = (r.stream, r.t);
                match self.kept.values.get(&key).or_else(|| stands.get(&key)) {
                    None => {
                        added.new += 1;
                        stands.insert(key, r.raw);
                        fresh.push((key, r.raw));
                        true
                    }
                    Some(raw) if *raw == r.raw => {
                        added.known += 1;
                        false
                    }
                    Some(_) => {
                        added.repeated += 1;
                        true
                    }
                }
            };
            let brings: Vec<Reading> = led.readings.iter().filter(tell).copied().collect();
            receipts.push(led.receipt(&added));
            if !brings.is_empty() {
                messages.push((waiting.received_at, brings));
            }
        }
        unit.keep_in_inbox(&messages).await?;
        unit.commit().await?;
        if !messages.is_empty() {
            self.kept.values.extend(fresh);
            self.kept.since.get_or_insert_with(Instant::now);
        }
        Ok(receipts)
    }

    /// Sorts the inbox into the record. If that fails it waits there on, on the disk, and is tried again.
    async fn sort_in(&mut self) {
        match self.store.empty_inbox().await {
            Ok(_) => {
                self.kept = Kept::default();
                self.brought.notify_one();
            }
            Err(error) => {
                tracing::warn!(%error, "messages wait in the inbox; sorting them in is tried again");
                self.kept.failed = Some(Instant::now());
            }
        }
    }

    fn tell<'r>(&self, receipts: impl IntoIterator<Item = &'r Receipt>) {
        if receipts.into_iter().any(|r| r.new + r.contradicting > 0) {
            self.brought.notify_one();
        }
    }
}

/// Who asked may have gone away meanwhile: what was written stays written, and is known when it is sent again.
fn answer(to: oneshot::Sender<Result<Receipt, StoreError>>, receipt: Result<Receipt, StoreError>) {
    if to.send(receipt).is_err() {
        tracing::debug!("a sender did not wait for its answer");
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_could_not_be_sorted_in_is_tried_again_each_second_also_while_messages_go_on() {
        let ago = |millis: u64| Instant::now().checked_sub(Duration::from_millis(millis));
        let kept = |since, failed| Kept { values: HashMap::new(), since, failed };
        assert_eq!((kept(None, None).patience(), kept(None, None).is_due()), (None, false), "nothing waits");
        let young = kept(ago(100), None);
        assert!(young.patience().is_some_and(|p| p == REST) && !young.is_due());
        assert!(kept(ago(1000), None).is_due());
        let failed = kept(ago(5000), ago(400));
        assert!(!failed.is_due() && failed.patience().is_some_and(|p| p > REST && p <= LONGEST));
        let again = kept(ago(5000), ago(1000));
        assert!(again.is_due() && again.patience() == Some(Duration::ZERO));
    }
}
