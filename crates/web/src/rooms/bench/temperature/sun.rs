//! The sun test, from the record itself.

use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{fixed, grouped};
use crate::shell::{Room, Shell, page};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::record::{ChannelRecord, StationRecord};
use ebrel_core::series::{Belief, BelievedReading};
use ebrel_core::temperature::{Group, SunPair, SunTest, sun_test};
use ebrel_core::units::Quantity;
use ebrel_store::flags::StoredFlag;

struct GroupRow {
    name: &'static str,
    days: usize,
    mean: String,
    half: String,
}

#[derive(Template)]
#[template(path = "rooms/bench/temperature/sun_test.html")]
struct SunPage {
    shell: Shell,
    station: String,
    answer: String,
    rows: Vec<GroupRow>,
    left_out: String,
}

/// The page of a station's sun test.
pub async fn sun(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let record = StationRecord::load(&state.store, *id).await?;
    let flags = state.store.flags(*id).await?;
    let test = sun_of(&record, &flags);
    let shell = Shell::within(&state, &actor, "Sun test", Room::Bench, &record.study, Some(&record.station)).await?;
    let row = |name, group: Option<Group>| {
        group.map(|g| GroupRow { name, days: g.days, mean: fixed(g.mean, 2), half: fixed(g.half_width, 2) })
    };
    let (answer, rows) = match test {
        Err(sentence) => (sentence, Vec::new()),
        Ok(t) => {
            let groups = [
                row("by day, clear days", t.clear),
                row("by day, overcast days", t.overcast),
                row("by day, all days", t.day),
                row("at night", t.night),
            ];
            (t.sentence, groups.into_iter().flatten().collect())
        }
    };
    let left_out = grouped(left_out(&record, &flags));
    page(&SunPage { shell, station: record.station.name, answer, rows, left_out })
}

/// The sun test of a station's two air thermometers.
fn sun_of(record: &StationRecord, flags: &[StoredFlag]) -> Result<SunTest, String> {
    let (Some(latitude), Some(longitude)) = (record.station.latitude, record.station.longitude) else {
        return Err("The station has no latitude and longitude yet: give them at its site in Plan.".into());
    };
    let of = |quantity| record.channels.iter().find(|c| c.quantity() == quantity);
    let (Some(shielded), Some(bare)) = (of(Quantity::AirTemperature), of(Quantity::BareAirTemperature)) else {
        return Err(
            "This test compares a bare air thermometer with a shielded one, and the station does not have both.".into(),
        );
    };
    let (shielded, bare) = (sound(shielded, flags), sound(bare, flags));
    let mut others = bare.iter().peekable();
    let pairs = shielded.iter().filter_map(|a| {
        while others.next_if(|b| b.time < a.time).is_some() {}
        let b = others.next_if(|b| b.time == a.time)?;
        Some(SunPair { at: a.time, shielded: a.value, bare: b.value })
    });
    Ok(sun_test(&pairs.collect::<Vec<_>>(), latitude, longitude))
}

/// The believed readings of a thermometer that are numbers.
fn sound<'r>(channel: &'r ChannelRecord, flags: &[StoredFlag]) -> Vec<BelievedReading<'r>> {
    let believed = channel.believed(flags, &Belief::default()).readings();
    believed.filter(|r| r.value.is_finite()).collect()
}

/// How many readings of the two thermometers flags and verdicts leave out.
fn left_out(record: &StationRecord, flags: &[StoredFlag]) -> usize {
    let air = |c: &&ChannelRecord| matches!(c.quantity(), Quantity::AirTemperature | Quantity::BareAirTemperature);
    record.channels.iter().filter(air).map(|c| c.believed(flags, &Belief::default()).left_out()).sum()
}
