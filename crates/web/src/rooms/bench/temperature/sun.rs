//! The sun test, from the record itself.

use crate::shell::errors::Problem;
use crate::shell::figures::fixed;
use crate::shell::{Room, Shell, page};
use crate::state::State;
use actix_session::Session;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::record::StationRecord;
use ebrel_core::temperature::{Group, SunPair, SunTest, sun_test};
use ebrel_core::units::{Quantity, UnixSeconds};

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
}

/// The page of a station's sun test.
pub async fn sun(state: web::Data<State>, session: Session, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let record = StationRecord::load(&state.store, *id).await?;
    let test = sun_of(&record);
    let shell = Shell::within(&state, &session, "Sun test", Room::Bench, &record.study, Some(&record.station)).await?;
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
    page(&SunPage { shell, station: record.station.name, answer, rows })
}

/// The sun test of a station's two air thermometers.
fn sun_of(record: &StationRecord) -> Result<SunTest, String> {
    let (Some(latitude), Some(longitude)) = (record.station.latitude, record.station.longitude) else {
        return Err("The station has no latitude and longitude yet: give them at its site in Plan.".into());
    };
    let of = |quantity| record.channels.iter().find(|c| c.quantity() == quantity);
    let (Some(shielded), Some(bare)) = (of(Quantity::AirTemperature), of(Quantity::BareAirTemperature)) else {
        return Err(
            "This test compares a bare air thermometer with a shielded one, and the station does not have both.".into(),
        );
    };
    let (a, b) = (shielded.view(), bare.view());
    let mut pairs = Vec::new();
    let mut j = 0;
    for (i, t) in a.times.iter().enumerate() {
        while j < b.times.len() && b.times[j] < *t {
            j += 1;
        }
        if b.times.get(j) == Some(t) && a.values[i].is_finite() && b.values[j].is_finite() {
            pairs.push(SunPair { at: UnixSeconds(*t), shielded: a.values[i], bare: b.values[j] });
        }
    }
    Ok(sun_test(&pairs, latitude, longitude))
}
