//! The nodes of a study: when each was heard, what came of what was to come, its battery, box and radio.

use super::record::StationRecord;
use ebrel_core::field::ClockCheck;
use ebrel_core::network::{
    Battery, DayOfValues, Fade, Heard, Received, battery, by_day, day_of, fade, received, start_of,
};
use ebrel_core::series::Series;
use ebrel_core::units::{Quantity, SpanSeconds, UnixSeconds};
use ebrel_store::batches::Delivery;
use ebrel_store::stations::Station;
use ebrel_store::streams::{Node, Stream};
use ebrel_store::studies::Study;
use ebrel_store::{Store, StoreError};
use std::collections::HashMap;
use std::sync::Arc;

/// A record that says no interval is taken to come this often.
const USUAL_INTERVAL: SpanSeconds = SpanSeconds(900);
/// A delivery that arrived so long after its first reading, and speaks of a short time, came late.
const LATE: SpanSeconds = SpanSeconds::DAY;
/// What is delivered of longer times at once is a file or a season, and tells no lateness.
const AT_ONCE: SpanSeconds = SpanSeconds(31 * SpanSeconds::DAY.0);
/// Days of which a battery's trend is made, and some before them.
const BATTERY_DAYS: i64 = 60;

/// Quantities that tell of a node itself, drawn through time.
pub const OF_THE_NODE: [Quantity; 4] =
    [Quantity::BatteryVoltage, Quantity::EnclosureHumidity, Quantity::SignalStrength, Quantity::PanelTemperature];

/// How a node is.
pub struct NodeHealth {
    /// Number and name, by which it sends and is called.
    pub node: Node,
    /// Where it stands.
    pub station: Station,
    /// When it was heard; `None` if it never was, or only by files that somebody brought.
    pub heard: Option<Heard>,
    /// When the last of its readings arrived.
    pub arrived: Option<UnixSeconds>,
    /// Records of each day.
    pub received: Vec<Received>,
    /// Whether some of a day came more than a day late.
    pub late: Vec<bool>,
    /// Values of the quantities that tell of the node, by day, in the order of [`OF_THE_NODE`]; empty where it does not send one.
    pub own: [Vec<Option<DayOfValues>>; 4],
    /// Voltage, trend and end of its battery, if it tells one.
    pub battery: Option<Battery>,
    /// What rain does to its signal.
    pub fade: Option<Fade>,
    /// The last check of its clock.
    pub clock: Option<ClockCheck>,
    /// What it carries.
    pub streams: Vec<Stream>,
}

impl NodeHealth {
    /// Share of the expected records of the last seven days, 0 to 1.
    #[must_use]
    pub fn share_of_a_week(&self) -> Option<f64> {
        let week = &self.received[self.received.len().saturating_sub(7)..];
        let sum = |of: fn(&Received) -> usize| week.iter().map(of).sum();
        Received { got: sum(|d| d.got.min(d.expected)), expected: sum(|d| d.expected) }.share()
    }

    /// The last day's value of a quantity that tells of the node.
    #[must_use]
    pub fn last_of(&self, quantity: Quantity) -> Option<DayOfValues> {
        let i = OF_THE_NODE.iter().position(|q| *q == quantity)?;
        self.own[i].iter().rev().flatten().next().copied()
    }
}

/// Of a node whose messages bring many readings each, the arrivals of so many tell its habit.
const READINGS: i64 = 400;

/// When the nodes with these streams were heard, by their numbers; one that sends nothing by itself is not among them.
///
/// # Errors
/// [`StoreError`] if the database cannot be read.
pub async fn heard(
    store: &Store,
    streams: impl IntoIterator<Item = &Stream>,
    now: UnixSeconds,
) -> Result<HashMap<i64, Heard>, StoreError> {
    let streams: HashMap<i64, &Stream> = streams.into_iter().map(|s| (s.id, s)).collect();
    let mut asked: Vec<i64> = streams.keys().copied().collect();
    asked.sort_unstable();
    let last = store.last_by_itself(&asked).await?;
    // The stream of each node that was heard last tells of it.
    let mut newest: HashMap<i64, (UnixSeconds, i64)> = HashMap::new();
    for (stream, last) in asked.iter().filter_map(|id| Some((streams.get(id)?, *last.get(id)?))) {
        let of_node = newest.entry(stream.node_id).or_insert((last, stream.id));
        *of_node = (*of_node).max((last, stream.id));
    }
    let mut telling: Vec<i64> = newest.values().map(|(_, stream)| *stream).collect();
    let mut arrivals = store.arrivals(&telling, Heard::ARRIVALS as i64).await?;
    telling.retain(|stream| arrivals.get(stream).is_none_or(|all| all.len() < Heard::ARRIVALS));
    arrivals.extend(store.arrivals(&telling, READINGS).await?);
    let judge = |(node, (last, stream)): (i64, (UnixSeconds, i64))| {
        let interval = streams.get(&stream)?.interval_s.map_or(USUAL_INTERVAL, SpanSeconds);
        let arrivals = arrivals.get(&stream).map(Vec::as_slice).unwrap_or_default();
        Some((node, Heard::judge(last, arrivals, interval, now)))
    };
    Ok(newest.into_iter().filter_map(judge).collect())
}

/// The health of the nodes of a study over the last `days`: of all, or of one by its number.
///
/// # Errors
/// [`StoreError`] if the database cannot be read.
pub async fn network(
    store: &Store,
    study: &Study,
    only: Option<i64>,
    (now, days): (UnixSeconds, i64),
) -> Result<Vec<NodeHealth>, StoreError> {
    let mut nodes = store.nodes(study.id).await?;
    nodes.retain(|n| only.is_none_or(|only| only == n.id));
    let stations = store.stations(study.id).await?;
    // Rain that eats a signal falls over the whole study: the first gauge serves where a station has none.
    let mut rain = None;
    for station in &stations {
        if rain.is_none() {
            rain = gauge(store, &store.streams(station.id).await?).await?;
        }
    }
    let mut all = Vec::with_capacity(nodes.len());
    for station in &stations {
        let own: Vec<Node> = nodes.iter().filter(|n| n.station == station.id).cloned().collect();
        all.extend(of_station(store, (study, station), own, rain.as_ref(), (now, days)).await?);
    }
    Ok(all)
}

async fn gauge(store: &Store, streams: &[Stream]) -> Result<Option<Arc<Series>>, StoreError> {
    match streams.iter().find(|s| s.quantity == Quantity::Rain) {
        Some(stream) => Ok(Some(store.series(stream.id).await?)),
        None => Ok(None),
    }
}

async fn of_station(
    store: &Store,
    (study, station): (&Study, &Station),
    nodes: Vec<Node>,
    rain: Option<&Arc<Series>>,
    (now, days): (UnixSeconds, i64),
) -> Result<Vec<NodeHealth>, StoreError> {
    if nodes.is_empty() {
        return Ok(Vec::new());
    }
    let offset = study.utc_offset_minutes;
    let today = day_of(now, offset);
    let span = (today + 1 - days, today + 1);
    let streams = store.streams(station.id).await?;
    let delivered = store.deliveries_at(station.id).await?;
    let record = StationRecord::outline(store, station.id).await?;
    let rain = gauge(store, &streams).await?.or_else(|| rain.cloned());
    let mut heard = heard(store, &streams, now).await?;
    let mut all = Vec::with_capacity(nodes.len());
    for node in nodes {
        let own: Vec<Stream> = streams.iter().filter(|s| s.node_id == node.id).cloned().collect();
        // Ports of a node are read together: the one with most readings tells of all. No other is loaded but what tells of the node.
        let readings = |s: &&Stream| delivered.get(&s.id).map_or(0, |d| d.iter().map(|d| d.readings).sum::<usize>());
        let longest = own.iter().max_by_key(readings);
        let mut series = HashMap::new();
        for stream in own.iter().filter(|s| OF_THE_NODE.contains(&s.quantity)).chain(longest) {
            series.insert(stream.id, store.series(stream.id).await?);
        }
        let longest = longest.and_then(|s| Some((s, series.get(&s.id)?)));
        let of = |quantity| own.iter().find(|s| s.quantity == quantity).and_then(|s| series.get(&s.id));
        let received = longest.map(|(stream, series)| of_days(stream, series, span, now, offset)).unwrap_or_default();
        let values = |quantity| of(quantity).map(|s: &Arc<Series>| by_day(s.view(), span, offset)).unwrap_or_default();
        let volts =
            of(Quantity::BatteryVoltage).map(|s| by_day(s.view(), (today + 1 - BATTERY_DAYS, today + 1), offset));
        let means: Option<Vec<Option<f64>>> = volts.map(|days| days.iter().map(|d| d.map(|d| d.mean)).collect());
        let window = (start_of(span.0, offset), start_of(span.1, offset));
        let fade = of(Quantity::SignalStrength).zip(rain.as_ref());
        let arrived = own.iter().filter_map(|s| delivered.get(&s.id)?.last()).map(|d| d.received_at).max();
        all.push(NodeHealth {
            heard: heard.remove(&node.id),
            arrived,
            late: late(longest.and_then(|(s, _)| delivered.get(&s.id)), span, offset),
            received,
            own: OF_THE_NODE.map(values),
            battery: means.and_then(|m| battery(&m)),
            fade: fade.and_then(|(s, r)| fade_between(s, r, window)),
            clock: record.clock_checks.iter().rfind(|c| c.node == node.name && !c.by_grid).map(|c| c.check),
            streams: own,
            station: station.clone(),
            node,
        });
    }
    Ok(all)
}

fn fade_between(signal: &Series, rain: &Series, (from, to): (UnixSeconds, UnixSeconds)) -> Option<Fade> {
    fade(signal.between(from, to), rain.between(UnixSeconds(from.0 - 2 * 86_400), to))
}

/// Records by day until now: what a silent node owes counts.
fn of_days(stream: &Stream, series: &Series, span: (i64, i64), now: UnixSeconds, offset: i64) -> Vec<Received> {
    let interval = stream.interval_s.or_else(|| series.view().usual_interval()).unwrap_or(USUAL_INTERVAL.0);
    let Some(first) = series.times.first() else { return Vec::new() };
    received(&series.times, SpanSeconds(interval), (UnixSeconds(*first), now), span, offset)
}

fn late(delivered: Option<&Vec<Delivery>>, (from, to): (i64, i64), offset: i64) -> Vec<bool> {
    let mut days = vec![false; usize::try_from(to - from).unwrap_or(0)];
    let slow = |d: &&Delivery| d.source.is_by_itself() && d.received_at - d.first > LATE && d.spans() <= AT_ONCE;
    for delivery in delivered.into_iter().flatten().filter(slow) {
        // What came within a day of its time is not late, also if it came with older readings.
        let last = delivery.last.0.min(delivery.received_at.0 - LATE.0);
        for day in day_of(delivery.first, offset).max(from)..=day_of(UnixSeconds(last), offset).min(to - 1) {
            if let Some(day) = usize::try_from(day - from).ok().and_then(|i| days.get_mut(i)) {
                *day = true;
            }
        }
    }
    days
}

#[cfg(test)]
mod tests {
    use super::*;
    use ebrel_store::batches::Source;

    #[test]
    fn days_that_came_with_a_catching_up_are_late_and_a_season_at_once_is_not() {
        const DAY: i64 = 86_400;
        let sent = |received: i64, first: i64, last: i64| Delivery {
            number: 1,
            received_at: UnixSeconds(received),
            source: Source::Message,
            import: None,
            first: UnixSeconds(first),
            last: UnixSeconds(last),
            readings: 1,
        };
        let days = |d: Delivery| late(Some(&vec![d]), (0, 12), 0);
        let caught_up = days(sent(9 * DAY + 60, 2 * DAY, 9 * DAY));
        assert_eq!(caught_up.iter().filter(|l| **l).count(), 7, "{caught_up:?}");
        assert!(caught_up[2] && caught_up[8] && !caught_up[9]);
        assert!(!days(sent(DAY + 60, DAY - 900, DAY)).contains(&true));
        assert!(!days(sent(90 * DAY, 0, 60 * DAY)).contains(&true), "a season");
        assert!(!days(Delivery { source: Source::File, ..sent(9 * DAY, 2 * DAY, 8 * DAY) }).contains(&true), "a file");
        assert!(late(None, (0, 12), 0).iter().all(|l| !l));
    }
}
