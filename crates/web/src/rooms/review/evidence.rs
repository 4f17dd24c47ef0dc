//! What convinces of one finding: its numbers, and the very drawing for its test.

use super::clouds::clouds;
use super::place_of;
use crate::components::trace::{Cloud, Frame, Source, Trace, draw};
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{moment, span, when};
use crate::shell::forms::Field;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::record::{ChannelRecord, StationRecord};
use ebrel_core::quality::{Reference, Test};
use ebrel_core::roles::Role;
use ebrel_core::series::View;
use ebrel_core::units::{Quantity, SpanSeconds, UnixSeconds, format_plain, unit_for_people};
use ebrel_store::flags::StoredFlag;
use ebrel_store::remarks::Remarks;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/review/flags/{flag}", Least::Member(Role::Guest), show);
}

#[derive(Template)]
#[template(path = "rooms/review/evidence.html")]
struct EvidencePage {
    shell: Shell,
    id: i64,
    title: &'static str,
    finds: &'static str,
    place: String,
    when: String,
    reason: String,
    numbers: Vec<(String, String)>,
    clouds: Vec<(String, Cloud)>,
    panels: Vec<(String, Trace)>,
    /// By which the finding is told in what is said of it: stream, code of the test, first and last second.
    key: (i64, &'static str, i64, i64),
    said: Vec<Said>,
    typed: Field,
    asks: bool,
    may: bool,
}

/// Something said of a finding.
pub(super) struct Said {
    pub by: String,
    pub when: String,
    pub words: String,
    /// A second opinion is wanted still.
    pub open: bool,
    /// It was, and somebody decided since.
    pub answered: bool,
}

/// What was said of one finding, the oldest first.
pub(super) fn said(remarks: &Remarks, flag: &StoredFlag, offset: i64) -> Vec<Said> {
    let of = remarks.of(flag.stream_id, &flag.flag);
    of.map(|r| Said {
        by: r.remark.by.clone(),
        when: moment(r.remark.at, offset),
        words: r.remark.words.clone(),
        open: r.open,
        answered: r.remark.asks && !r.open,
    })
    .collect()
}

async fn show(state: web::Data<State>, actor: Actor, path: web::Path<(i64, i64)>) -> Result<HttpResponse, Problem> {
    let (id, number) = *path;
    let flags = state.store.flags(id).await?;
    let flag = flags.iter().find(|f| f.id == number);
    let gone = || Problem::Refused("The tests have run anew since that page was opened: go back to what waits.".into());
    shown(&state, &actor, id, flag.ok_or_else(gone)?, (Field::default(), false)).await
}

/// The page of one finding, with what was typed beside it.
pub(super) async fn shown(
    state: &State,
    actor: &Actor,
    id: i64,
    flag: &StoredFlag,
    (typed, asks): (Field, bool),
) -> Result<HttpResponse, Problem> {
    let record = StationRecord::load(&state.store, id).await?;
    let test = flag.flag.test.definition();
    let shell =
        Shell::within(state, actor, "What convinces", Room::Review, &record.study, Some(&record.station)).await?;
    let offset = record.study.utc_offset_minutes;
    let remarks = state.store.remarks(id).await?;
    page(&EvidencePage {
        may: shell.may(Role::Field),
        shell,
        id,
        key: (flag.stream_id, flag.flag.test.code(), flag.flag.start.0, flag.flag.end.0),
        said: said(&remarks, flag, offset),
        typed,
        asks,
        title: test.title,
        finds: test.finds,
        place: place_of(flag, &record),
        when: span(flag.flag.start, flag.flag.end, offset),
        reason: flag.flag.reason.clone(),
        numbers: numbers(flag),
        clouds: own(&record, flag).map_or_else(Vec::new, |c| clouds(&record, c, flag)),
        panels: panels(&record, flag),
    })
}

/// The numbers of the evidence under their names.
fn numbers(flag: &StoredFlag) -> Vec<(String, String)> {
    let Ok(serde_json::Value::Object(all)) = serde_json::to_value(flag.flag.evidence) else { return Vec::new() };
    // Four figures are enough to read.
    let short = |v: f64| format!("{v:.3e}").parse().map_or_else(|_| String::new(), format_plain);
    let number = |v: &serde_json::Value| v.as_f64().map(short);
    all.iter().filter_map(|(name, v)| Some((name.replace('_', " "), number(v)?))).collect()
}

/// A line with its readings.
pub(super) struct Line {
    name: String,
    pub times: Vec<i64>,
    pub values: Vec<f64>,
    /// What was measured by hand beside it.
    by_hand: Vec<Reference>,
}

impl Line {
    pub fn of(c: &ChannelRecord, (from, to): (UnixSeconds, UnixSeconds)) -> Self {
        let view = c.view();
        let (a, b) = (view.times.partition_point(|t| *t < from.0), view.times.partition_point(|t| *t <= to.0));
        let part = View { times: &view.times[a..b.max(a)], values: &view.values[a..b.max(a)] };
        let (times, values) = (part.times.to_vec(), c.values_in(part).into_owned());
        Self { name: c.channel.label(), times, values, by_hand: c.references.clone() }
    }

    /// What one reads above another at the same times.
    fn over(&self, other: &Self) -> Self {
        let at = |t: &i64| other.times.binary_search(t).ok().map(|i| other.values[i]);
        let both = self.times.iter().zip(&self.values).filter_map(|(t, v)| Some((*t, v - at(t)?)));
        let (times, values) = both.unzip();
        Self { name: format!("{} less {}", self.name, other.name), times, values, by_hand: Vec::new() }
    }

    /// Its sum from the beginning on.
    fn summed(mut self) -> Self {
        let mut sum = 0.0;
        self.values.iter_mut().for_each(|v| {
            sum += v.max(0.0);
            *v = sum;
        });
        self
    }
}

/// How a test is convinced.
enum Look {
    /// The channel with those of its kind at other depths, around the span.
    Neighbours,
    /// All of its kind over a few days in the middle of the span.
    Days(i64),
    /// The channel and its own temperature over a few days.
    WithHeat(i64),
    /// Moisture at all depths and the rain that fell.
    WithRain,
    /// Twins and their difference over the whole record.
    Twin,
    /// Two air thermometers and their difference over a few days.
    Air,
    /// The channel alone, around the span.
    Alone,
}

const fn look(test: Test) -> Look {
    match test {
        Test::Step | Test::Stuck | Test::Spike | Test::SwappedPorts | Test::Noise | Test::Impossible => {
            Look::Neighbours
        }
        Test::HeatMisorder => Look::Days(4),
        Test::DailyWiggle | Test::Frozen => Look::WithHeat(6),
        Test::RiseWithoutWater | Test::MissesRain | Test::WetsOutOfOrder | Test::Ponded => Look::WithRain,
        Test::PairApart => Look::Twin,
        Test::SunlitAir => Look::Air,
        Test::Gap
        | Test::Late
        | Test::Repeated
        | Test::Clock
        | Test::NotConnected
        | Test::OutOfInstrument
        | Test::ReferenceApart
        | Test::LowPower
        | Test::WetBox
        | Test::Settling
        | Test::Visit => Look::Alone,
    }
}

/// The channel that a finding is of.
fn own<'r>(record: &'r StationRecord, flag: &StoredFlag) -> Option<&'r ChannelRecord> {
    let here =
        |c: &&ChannelRecord| c.channel.stream.id == flag.stream_id && c.channel.placement.id == flag.placement_id;
    record.channels.iter().find(here)
}

fn panels(record: &StationRecord, flag: &StoredFlag) -> Vec<(String, Trace)> {
    let Some(own) = own(record, flag) else { return Vec::new() };
    let (start, end) = (flag.flag.start, flag.flag.end);
    let day = SpanSeconds::DAY.0;
    let beside = ((end.0 - start.0) / 3).clamp(day / 2, 10 * day);
    let around = (UnixSeconds(start.0 - beside), UnixSeconds(end.0 + beside));
    let middle = |days: i64| {
        let at = start.0.midpoint(end.0);
        (UnixSeconds(at - days * day / 2), UnixSeconds(at + days * day / 2))
    };
    let shade = Some((start, end));
    let of_kind = |span| -> Vec<Line> {
        let quantity = own.quantity();
        let kin = record.channels.iter().filter(|c| c.quantity() == quantity && c.quantity().is_in_soil());
        let mut lines: Vec<Line> = kin.map(|c| Line::of(c, span)).filter(|l| !l.times.is_empty()).collect();
        if lines.is_empty() {
            lines.push(Line::of(own, span));
        }
        lines
    };
    let unit = unit_for_people(own.unit()).to_owned();
    let panel = |title: &str, lines: &[Line], span, shade, unit: &str| {
        trace(record, lines, span, shade, unit).map(|t| (title.to_owned(), t))
    };
    let found = match look(flag.flag.test) {
        Look::Alone => vec![panel("The record around it", &[Line::of(own, around)], around, shade, &unit)],
        Look::Neighbours => vec![panel("It and its neighbours", &of_kind(around), around, shade, &unit)],
        Look::Days(days) => {
            let span = middle(days);
            vec![panel("The daily waves: the deeper, the smaller and later", &of_kind(span), span, None, &unit)]
        }
        Look::WithHeat(days) => {
            let span = middle(days);
            let heat = beside_it(record, own, |c| c.quantity() == Quantity::SoilTemperature);
            let heat: Vec<Line> = heat.map(|c| Line::of(c, span)).into_iter().collect();
            vec![
                panel("Water content", &[Line::of(own, span)], span, None, &unit),
                panel("Soil temperature beside it", &heat, span, None, "°C"),
            ]
        }
        Look::WithRain => {
            let rain = record.channels.iter().filter(|c| c.quantity() == Quantity::Rain);
            let rain: Vec<Line> = rain.map(|c| Line::of(c, around).summed()).collect();
            vec![
                panel("Moisture at every depth", &of_kind(around), around, shade, &unit),
                panel("Rain, summed from the left", &rain, around, shade, "mm"),
            ]
        }
        Look::Twin => {
            let whole = record.extent().unwrap_or(around);
            let twin = beside_it(record, own, |c| c.quantity() == own.quantity() && !std::ptr::eq(c, own));
            let lines: Vec<Line> = std::iter::once(own).chain(twin).map(|c| Line::of(c, whole)).collect();
            let apart: Vec<Line> = lines.get(1).map(|b| lines[0].over(b)).into_iter().collect();
            vec![
                panel("Both twins", &lines, whole, shade, &unit),
                panel("Their difference", &apart, whole, shade, &unit),
            ]
        }
        Look::Air => {
            let span = middle(6);
            let other =
                record.channels.iter().find(|c| c.quantity() == Quantity::AirTemperature && !std::ptr::eq(*c, own));
            let lines: Vec<Line> = std::iter::once(own).chain(other).map(|c| Line::of(c, span)).collect();
            let apart: Vec<Line> = lines.get(1).map(|b| lines[0].over(b)).into_iter().collect();
            vec![
                panel("Both thermometers", &lines, span, None, &unit),
                panel("Their difference: large by day, nothing by night", &apart, span, None, "K"),
            ]
        }
    };
    found.into_iter().flatten().collect()
}

/// Another channel at the same depth.
pub(super) fn beside_it<'r>(
    record: &'r StationRecord,
    own: &ChannelRecord,
    is: impl Fn(&ChannelRecord) -> bool,
) -> Option<&'r ChannelRecord> {
    let near = |c: &ChannelRecord| {
        c.channel.placement.depth_cm.zip(own.channel.placement.depth_cm).is_some_and(|(a, b)| (a - b).abs() <= 1.0)
    };
    record.channels.iter().find(|c| near(c) && is(c))
}

pub(super) fn trace(
    record: &StationRecord,
    lines: &[Line],
    span: (UnixSeconds, UnixSeconds),
    shade: Option<(UnixSeconds, UnixSeconds)>,
    unit: &str,
) -> Option<Trace> {
    let drawn = lines.iter().enumerate().map(|(dash, l)| {
        let view = View { times: &l.times, values: &l.values };
        Source { name: l.name.clone(), view, dash }
    });
    let sources: Vec<Source<'_>> = drawn.collect();
    let offset = record.study.utc_offset_minutes;
    let words = lines.iter().map(|l| l.name.as_str()).collect::<Vec<_>>().join(", ");
    draw(
        &sources,
        Frame {
            span,
            shade,
            when: &|t, form| when(t, offset, form),
            unit: unit.to_owned(),
            words,
            band: None,
            by_hand: lines.first().map_or(&[][..], |l| &l.by_hand),
        },
    )
}
