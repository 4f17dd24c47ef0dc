//! A stretch of all that is known of a station, and its print.

use super::{Channel, Delivery, Elsewhere, Event, Reference, Repeat, Settings, StationContext};
use crate::series::View;
use crate::units::{SpanSeconds, UnixSeconds};
use std::collections::HashSet;
use std::ops::Range;
use xxhash_rust::xxh3::Xxh3;

/// Looks at a station as it is known from one time to another: readings, what was measured by hand, events, deliveries.
///
/// Of what lies before, the last reading is seen, so that a silence is told that ends within.
pub(super) fn seen<T>(
    station: &StationContext<'_>,
    span: &Range<i64>,
    look: impl FnOnce(&StationContext<'_>) -> T,
) -> T {
    let own: Vec<Lists> = station.channels.iter().map(|c| Lists::of(c, span)).collect();
    let others: Vec<Lists> = station.elsewhere.iter().map(|e| Lists::of(&e.channel, span)).collect();
    let channels: Vec<Channel<'_>> = station.channels.iter().zip(&own).map(|(c, lists)| part(c, lists, span)).collect();
    let elsewhere = station.elsewhere.iter().zip(&others);
    let elsewhere: Vec<Elsewhere<'_>> = elsewhere
        .map(|(e, lists)| Elsewhere { station: e.station, place: e.place, channel: part(&e.channel, lists, span) })
        .collect();
    let begun = station.events.iter().filter(|e| e.start.0 < span.end);
    let events: Vec<Event> = begun.map(|e| Event { end: UnixSeconds(e.end.0.min(span.end)), ..*e }).collect();
    let (channels, events, elsewhere) = (&channels[..], &events[..], &elsewhere[..]);
    look(&StationContext { channels, events, place: station.place, elsewhere })
}

/// What of a channel's lists touches a stretch.
struct Lists {
    repeats: Vec<Repeat>,
    delivered: Vec<Delivery>,
    references: Vec<Reference>,
}

impl Lists {
    fn of(channel: &Channel<'_>, span: &Range<i64>) -> Self {
        let touches = |d: &&Delivery| d.first.0 < span.end && d.last.0 >= span.start;
        let delivered: Vec<Delivery> = channel.delivered.iter().filter(touches).copied().collect();
        // What is known of both ends of a delivery tells whether it came late or again, wherever they lie.
        let ends: HashSet<UnixSeconds> = delivered.iter().flat_map(|d| [d.first, d.last]).collect();
        let known = |r: &&Repeat| span.contains(&r.time.0) || ends.contains(&r.time);
        Self {
            repeats: channel.repeats.iter().filter(known).copied().collect(),
            delivered,
            references: channel.references.iter().filter(|r| span.contains(&r.time.0)).copied().collect(),
        }
    }
}

fn part<'p>(channel: &Channel<'p>, lists: &'p Lists, span: &Range<i64>) -> Channel<'p> {
    let at = |times: &[i64], t: i64| times.partition_point(|time| *time < t);
    let times = channel.view.times;
    let readings = at(times, span.start).saturating_sub(1)..at(times, span.end);
    let empty = at(channel.empty, span.start)..at(channel.empty, span.end);
    Channel {
        // Who is taken out later is there until then.
        placed: (channel.placed.0, channel.placed.1.filter(|ends| ends.0 <= span.end)),
        interval: Some(SpanSeconds(channel.due_every())),
        raw: channel.raw.map(|raw| &raw[readings.clone()]),
        view: channel.view.slice(readings),
        repeats: &lists.repeats,
        delivered: &lists.delivered,
        empty: &channel.empty[empty],
        references: &lists.references,
        ..channel.clone()
    }
}

/// A number that is another one whenever anything is that the tests see of a station, or a setting.
pub(super) fn print(station: &StationContext<'_>, settings: &Settings) -> u128 {
    let mut of = Xxh3::new();
    let elsewhere = station.elsewhere.iter().map(|e| {
        of_text(&mut of, &(e.station, e.place));
        &e.channel
    });
    let elsewhere: Vec<&Channel<'_>> = elsewhere.collect();
    for channel in station.channels.iter().chain(elsewhere) {
        let View { times, values } = channel.view;
        let nothing = View { times: &[], values: &[] };
        of_text(&mut of, &Channel { view: nothing, raw: channel.raw.map(|_| &[][..]), empty: &[], ..channel.clone() });
        of_text(&mut of, &(times.len(), channel.empty.len()));
        of.update(bytemuck::cast_slice(times));
        of.update(bytemuck::cast_slice(values));
        of.update(bytemuck::cast_slice(channel.raw.unwrap_or_default()));
        of.update(bytemuck::cast_slice(channel.empty));
    }
    of_text(&mut of, &(station.channels.len(), station.events, station.place, settings));
    of.digest128()
}

fn of_text(of: &mut Xxh3, told: &impl std::fmt::Debug) {
    of.update(format!("{told:?}\n").as_bytes());
}
