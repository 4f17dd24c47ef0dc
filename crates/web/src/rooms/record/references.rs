//! What was measured by hand beside probes: noted, held against the record, taken back.

use crate::components::fields::{Answer, channel_words};
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{grouped, moment, typed_time};
use crate::shell::forms::{Field, optional};
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, say, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::record::{ChannelRecord, StationRecord};
use ebrel_app::reviewing;
use ebrel_core::quality::{Evidence, Reference, ReferenceKind};
use ebrel_core::roles::Role;
use ebrel_core::units::{
    Quantity, Range, SpanSeconds, UnixSeconds, format_plain, format_value, ranges, unit_for_people,
};
use ebrel_store::StoreError;
use ebrel_store::flags::StoredFlag;
use ebrel_store::references::{NewReference, StoredReference};
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/references", Least::Member(Role::Guest), show);
    routes.post("/stations/{id}/references", Least::Member(Role::Field), keep);
    routes.post("/stations/{id}/references/{reference}/undo", Least::Member(Role::Field), undo);
}

const LONGEST_NOTE: usize = 500;
/// Readings by hand that the page lists, the newest; a package has all.
const LISTED: usize = 500;
/// How sure somebody may be of a water content, m³/m³, and of a temperature, K.
const SURE_OF_WATER: Range = Range { name: "uncertainty", unit: "m³/m³", min: 0.0005, max: 0.2 };
const SURE_OF_HEAT: Range = Range { name: "uncertainty", unit: "K", min: 0.01, max: 5.0 };

#[derive(Deserialize, Default)]
struct Typed {
    #[serde(default)]
    channel: String,
    #[serde(default)]
    time: String,
    #[serde(default)]
    kind: String,
    #[serde(default)]
    value: String,
    #[serde(default)]
    uncertainty: String,
    #[serde(default)]
    note: String,
}

/// What is wrong with a form, each at its place.
#[derive(Default)]
struct Faults {
    channel: Option<String>,
    time: Option<String>,
    kind: Option<String>,
    value: Option<String>,
    uncertainty: Option<String>,
    note: Option<String>,
}

impl Faults {
    fn is_none(&self) -> bool {
        let Self { channel, time, kind, value, uncertainty, note } = self;
        [channel, time, kind, value, uncertainty, note].into_iter().all(Option::is_none)
    }
}

struct Row {
    id: i64,
    when: String,
    place: String,
    kind: &'static str,
    by_hand: String,
    record: String,
    apart: String,
    unit: String,
    contradicts: bool,
    note: String,
    by: String,
    undone: Option<String>,
}

#[derive(Template)]
#[template(path = "rooms/record/references.html")]
struct ReferencesPage {
    shell: Shell,
    id: i64,
    station: String,
    answer: String,
    may: bool,
    channels: Vec<Answer>,
    kinds: Vec<Answer>,
    time: Field,
    value: Field,
    uncertainty: Field,
    note: Field,
    /// What is wrong with the two choices.
    slips: Vec<String>,
    rows: Vec<Row>,
    /// How many more there are, older than these.
    earlier: usize,
}

/// Whether somebody can measure beside a channel what it shows.
fn is_comparable(channel: &ChannelRecord) -> bool {
    let quantity = channel.quantity();
    quantity == Quantity::WaterContent || quantity.is_temperature()
}

fn decimals(quantity: Quantity) -> usize {
    if quantity == Quantity::WaterContent { 3 } else { 1 }
}

async fn show(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let record = StationRecord::load(&state.store, *id).await?;
    shown(&state, &actor, &record, Typed::default(), Faults::default()).await
}

async fn shown(
    state: &State,
    actor: &Actor,
    record: &StationRecord,
    typed: Typed,
    faults: Faults,
) -> Result<HttpResponse, Problem> {
    let (study, id) = (&record.study, record.station.id);
    let shell = Shell::within(state, actor, "Measured by hand", Room::Record, study, Some(&record.station)).await?;
    let flags = state.store.flags(id).await?;
    let all = state.store.references(id).await?;
    let apart: Vec<Apart> = flags.iter().filter_map(Apart::of).collect();
    let contradicts = |r: &&StoredReference| r.undone.is_none() && apart.iter().any(|a| a.is_of(&r.new));
    let (stand, contradicted) =
        (all.iter().filter(|r| r.undone.is_none()).count(), all.iter().filter(contradicts).count());
    let listed = all.iter().rev().take(LISTED).map(|r| row(record, &apart, r, study.utc_offset_minutes));
    let channels = Answer::streams(record.channels.iter().filter(|c| is_comparable(c)), &typed.channel);
    let field = |text: &str, error: Option<String>| Field { text: text.to_owned(), error };
    page(&ReferencesPage {
        may: shell.may(Role::Field),
        shell,
        id,
        station: record.station.name.clone(),
        answer: answer(stand, contradicted, channels.is_empty()),
        kinds: ReferenceKind::ALL.iter().map(|k| Answer::of(k.code(), k.words(), &typed.kind)).collect(),
        channels,
        time: field(&typed.time, faults.time),
        value: field(&typed.value, faults.value),
        uncertainty: field(&typed.uncertainty, faults.uncertainty),
        note: field(&typed.note, faults.note),
        slips: faults.channel.into_iter().chain(faults.kind).collect(),
        rows: listed.collect(),
        earlier: all.len().saturating_sub(LISTED),
    })
}

fn answer(stand: usize, contradicted: usize, nothing: bool) -> String {
    match (stand, contradicted) {
        (0, _) if nothing => {
            "No probe here shows a water content or a temperature yet: place one, or adopt its calibration, first.".into()
        }
        (0, _) => "Nothing measured by hand yet: a thermometer left some minutes, a core, or a handheld beside a probe tells whether its \
                   record is right."
            .into(),
        (1, 0) => "One reading by hand; the record agrees.".into(),
        (1, _) => "One reading by hand; the record contradicts it.".into(),
        (n, 0) => format!("{} readings by hand; the record contradicts none.", grouped(n)),
        (n, 1) => format!("{} readings by hand; the record contradicts one of them.", grouped(n)),
        (n, m) => format!("{} readings by hand; the record contradicts {} of them.", grouped(n), grouped(m)),
    }
}

/// A finding of the test that holds a record against what was measured by hand.
struct Apart {
    stream: i64,
    span: (UnixSeconds, UnixSeconds),
    by_hand: f64,
    difference: f64,
}

impl Apart {
    fn of(flag: &StoredFlag) -> Option<Self> {
        let Evidence::ReferenceApart(e) = &flag.flag.evidence else { return None };
        let (by_hand, difference) = (e.reference.get(), e.difference.get());
        Some(Self { stream: flag.stream_id, span: (flag.flag.start, flag.flag.end), by_hand, difference })
    }

    /// Whether it speaks of this reading: its span lies around it, or a day beside it where the record is a daily one.
    fn is_of(&self, new: &NewReference) -> bool {
        let (time, day) = (new.reference.time, SpanSeconds::DAY);
        self.stream == new.stream
            && self.by_hand == new.reference.value
            && self.span.0 - day <= time
            && time <= self.span.1 + day
    }
}

fn row(record: &StationRecord, apart: &[Apart], r: &StoredReference, offset: i64) -> Row {
    let Reference { time, value, uncertainty } = r.new.reference;
    let quantity = r.new.quantity;
    let written = |v: f64| format_value(v, decimals(quantity));
    let of_stream = || record.channels.iter().filter(|c| c.channel.stream.id == r.new.stream);
    let channel = of_stream().find(|c| c.beside(std::slice::from_ref(&r.new)).next().is_some());
    let told = apart.iter().find(|a| r.undone.is_none() && a.is_of(&r.new));
    // What the test saw counts: it passes over readings that were found wrong before.
    let difference = told.map(|a| a.difference);
    let difference = difference.or_else(|| Some(channel?.shown_beside(time)?.value - value));
    let nothing = if channel.is_some() { "nothing within an hour" } else { "does not show this any more" };
    let sure = uncertainty.map_or_else(String::new, |u| format!(" ± {}", format_plain(u)));
    Row {
        id: r.id,
        when: moment(time, offset),
        place: channel.or(of_stream().next()).map_or_else(String::new, channel_words),
        kind: r.new.kind.words(),
        by_hand: format!("{}{sure}", written(value)),
        record: difference.map_or_else(|| nothing.to_owned(), |d| written(value + d)),
        apart: difference.map_or_else(String::new, written),
        unit: unit_for_people(quantity.unit()),
        contradicts: told.is_some(),
        note: r.new.note.clone(),
        by: r.new.by.clone(),
        undone: r.undone.as_ref().map(|(by, at)| format!("taken back by {by}, {}", moment(*at, offset))),
    }
}

async fn keep(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Typed>,
) -> Result<HttpResponse, Problem> {
    let typed = form.0;
    let outline = StationRecord::outline(&state.store, *id).await?;
    let now = state.now(&outline.study);
    let new = match understood(&typed, &outline, (actor.name(), now)) {
        Ok(new) => new,
        Err(faults) => {
            let record = StationRecord::load(&state.store, *id).await?;
            return shown(&state, &actor, &record, typed, *faults).await;
        }
    };
    let added = state.store.add_reference(&new).await?;
    reviewing::run(&state.store, *id).await?;
    say(&actor, if added { "Kept, and held against the record." } else { "It was noted already; it is kept once." })?;
    Ok(see_other(&format!("/stations/{id}/references")))
}

/// What was meant, or all that is wrong with it.
fn understood(
    typed: &Typed,
    record: &StationRecord,
    (by, now): (&str, UnixSeconds),
) -> Result<NewReference, Box<Faults>> {
    let mut faults = Faults::default();
    let time = typed_time(&typed.time, record.study.utc_offset_minutes);
    let time = time.and_then(|t| if t > now { Err("That is still to come: when was it?".to_owned()) } else { Ok(t) });
    let time = time.map_err(|says| faults.time = Some(says)).ok();
    let of_stream = || record.channels.iter().filter(|c| c.channel.stream.id.to_string() == typed.channel);
    if of_stream().next().is_none() {
        faults.channel = Some("Choose beside which probe it was.".into());
    }
    let there = |c: &&ChannelRecord| time.is_none_or(|t| c.channel.placement.holds(t));
    let channel = of_stream().filter(there).find(|c| is_comparable(c));
    if faults.channel.is_none() && channel.is_none() {
        let says =
            "No probe that shows this is noted at that port at that time: look under Placements, or mend the time.";
        faults.time.get_or_insert_with(|| says.into());
    }
    let quantity = channel.or_else(|| of_stream().next()).map_or(Quantity::WaterContent, ChannelRecord::quantity);
    let is_water = quantity == Quantity::WaterContent;
    let range = if is_water { ranges::VOLUMETRIC_WATER_CONTENT } else { ranges::TEMPERATURE_C };
    let value = optional(&typed.value, range).and_then(|v| v.ok_or_else(|| "Give what was measured.".to_owned()));
    let value = value.map_err(|says| faults.value = Some(says)).ok();
    let sure = if is_water { SURE_OF_WATER } else { SURE_OF_HEAT };
    let uncertainty = optional(&typed.uncertainty, sure).map_err(|says| faults.uncertainty = Some(says)).ok();
    let kind = match (ReferenceKind::from_code(&typed.kind), is_water) {
        (Some(ReferenceKind::Core), false) => {
            Err("A core tells water, not warmth: choose the thermometer or a handheld.")
        }
        (Some(ReferenceKind::Thermometer), true) => Err("A thermometer tells no water: choose the core or a handheld."),
        (kind, _) => kind.ok_or("Choose with what it was measured."),
    };
    let kind = kind.map_err(|says| faults.kind = Some(says.to_owned())).ok();
    let note = typed.note.trim().to_owned();
    if note.chars().count() > LONGEST_NOTE {
        faults.note = Some(format!("Shorten it to {LONGEST_NOTE} characters; it has {}.", note.chars().count()));
    }
    match (channel, time, value, uncertainty, kind) {
        (Some(channel), Some(time), Some(value), Some(uncertainty), Some(kind)) if faults.is_none() => {
            Ok(NewReference {
                stream: channel.channel.stream.id,
                quantity,
                reference: Reference { time, value, uncertainty },
                kind,
                note,
                by: by.to_owned(),
                at: now,
            })
        }
        _ => Err(Box::new(faults)),
    }
}

async fn undo(state: web::Data<State>, actor: Actor, path: web::Path<(i64, i64)>) -> Result<HttpResponse, Problem> {
    let (id, reference) = *path;
    let station = state.store.station(id).await?;
    let now = state.now(&state.store.study(station.study_id).await?);
    match state.store.take_reference_back(id, reference, actor.name(), now).await {
        Ok(()) => {
            reviewing::run(&state.store, id).await?;
            say(&actor, "Taken back: the record is not held against it any more.")?;
        }
        Err(StoreError::Stale) => say(&actor, "It was taken back already.")?,
        Err(error) => return Err(error.into()),
    }
    Ok(see_other(&format!("/stations/{id}/references")))
}
