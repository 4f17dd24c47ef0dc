//! Readings of a station as a table: with flags, by pages, and as text for a spreadsheet.

use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{field, fixed, moment, typed_time};
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, download, page};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::record::StationRecord;
use ebrel_app::table::{Cell, Table, table};
use ebrel_core::roles::Role;
use ebrel_core::units::{Quantity, UnixSeconds, unit_for_people};
use ebrel_store::StoreError;
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/readings", Least::Member(Role::Guest), show);
    routes.get("/stations/{id}/readings.tsv", Least::Member(Role::Guest), text);
}

/// Rows of a page.
const ROWS: usize = 96;
/// Rows of a text for a spreadsheet: a year of quarters of an hour.
const TEXT_ROWS: usize = 35_136;

#[derive(Deserialize)]
struct Asked {
    /// First time, as somebody typed it; the last page unless somebody asks.
    #[serde(default)]
    from: String,
    /// First time in seconds of UTC, as links say it.
    at: Option<i64>,
    /// `moisture`, `temperature`, `rest` or `all`.
    #[serde(default)]
    show: String,
}

/// Which channels can be asked for, and how that is called.
const SHOWN: [(&str, &str); 4] =
    [("moisture", "moisture"), ("temperature", "temperature"), ("rest", "rain and the rest"), ("all", "all")];

impl Asked {
    fn show(&self) -> &'static str {
        SHOWN.iter().find(|s| s.0 == self.show).map_or("moisture", |s| s.0)
    }

    fn wants(&self) -> impl Fn(Quantity) -> bool + use<> {
        let show = self.show();
        move |q: Quantity| show == "all" || group_of(q) == show
    }
}

/// The group of channels with which a quantity is shown, as [`SHOWN`] calls it.
pub(super) const fn group_of(quantity: Quantity) -> &'static str {
    match quantity {
        q if q.is_moisture() => "moisture",
        q if q.is_temperature() => "temperature",
        _ => "rest",
    }
}

struct Shown {
    text: String,
    /// What tests say of it, in words; empty if they say nothing.
    flags: String,
    left_out: bool,
    link: String,
}

struct Row {
    when: String,
    cells: Vec<Option<Shown>>,
}

#[derive(Template)]
#[template(path = "rooms/record/values/readings.html")]
struct ReadingsPage {
    shell: Shell,
    id: i64,
    station: String,
    answer: String,
    error: Option<String>,
    show: &'static str,
    shown: &'static [(&'static str, &'static str)],
    typed: String,
    columns: Vec<(String, String)>,
    rows: Vec<Row>,
    before: Option<i64>,
    next: Option<i64>,
    from: i64,
}

async fn loaded(
    state: &State,
    id: i64,
    asked: &Asked,
    rows: usize,
) -> Result<(StationRecord, Table, Result<UnixSeconds, String>), Problem> {
    let record = StationRecord::load(&state.store, id).await?;
    let flags = state.store.flags(id).await?;
    let offset = record.study.utc_offset_minutes;
    let last = record.extent().map_or(UnixSeconds(0), |e| e.1);
    let usual = UnixSeconds(last.0 - 86_400 + 900);
    let from = match (asked.at, asked.from.trim()) {
        (Some(at), _) => Ok(UnixSeconds(at)),
        (None, "") => Ok(usual),
        (None, typed) => typed_time(typed, offset),
    };
    let wants = asked.wants();
    let start = from.clone().unwrap_or(usual);
    let made = tokio::task::spawn_blocking(move || (table(&record, &flags, start, rows, wants), record)).await;
    let (table, record) = made.map_err(|e| StoreError::Rule(e.to_string()))?;
    Ok((record, table, from))
}

async fn show(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    asked: web::Query<Asked>,
) -> Result<HttpResponse, Problem> {
    let (record, table, from) = loaded(&state, *id, &asked, ROWS).await?;
    let offset = record.study.utc_offset_minutes;
    let shell = Shell::within(&state, &actor, "Readings", Room::Record, &record.study, Some(&record.station)).await?;
    let answer = match (table.columns.len(), table.rows.first(), table.rows.last()) {
        (0, ..) => format!("No channel of {} tells of this.", record.station.name),
        (n, Some(first), Some(last)) => {
            let (records, channels) = (table.rows.len(), if n == 1 { "channel" } else { "channels" });
            format!("{records} records of {n} {channels}, {} to {}.", moment(first.0, offset), moment(last.0, offset))
        }
        _ => "No reading from then on.".to_owned(),
    };
    let start = table.rows.first().map_or(0, |r| r.0.0);
    page(&ReadingsPage {
        shell,
        id: *id,
        station: record.station.name,
        answer,
        show: asked.show(),
        shown: &SHOWN,
        typed: match &from {
            Ok(at) => field(*at, offset),
            Err(_) => asked.from.clone(),
        },
        error: from.err(),
        rows: table.rows.iter().map(|(t, cells)| row(*id, *t, cells, &table, offset)).collect(),
        columns: table.columns.into_iter().map(|c| (c.label, unit_for_people(&c.unit))).collect(),
        before: table.before.map(|t| t.0),
        next: table.next.map(|t| t.0),
        from: start,
    })
}

fn row(id: i64, t: UnixSeconds, cells: &[Option<Cell>], table: &Table, offset: i64) -> Row {
    let cell = |(cell, column): (&Option<Cell>, &ebrel_app::table::TableColumn)| {
        let cell = cell.as_ref()?;
        let flags: Vec<String> =
            cell.flags.iter().map(|(test, grade)| format!("{} ({})", test.definition().title, grade.code())).collect();
        Some(Shown {
            text: cell.value.map_or_else(|| "no calibration".to_owned(), |v| fixed(v, column.decimals)),
            flags: flags.join(", "),
            left_out: cell.left_out,
            link: format!("/stations/{id}/values/{}?at={}", column.stream, t.0),
        })
    };
    Row { when: field(t, offset), cells: cells.iter().zip(&table.columns).map(cell).collect() }
}

/// The same as text with tabs, up to a year of rows: a spreadsheet takes it as it is.
async fn text(state: web::Data<State>, id: web::Path<i64>, asked: web::Query<Asked>) -> Result<HttpResponse, Problem> {
    let (record, table, from) = loaded(&state, *id, &asked, TEXT_ROWS).await?;
    if let Err(says) = from {
        return Err(Problem::Refused(says));
    }
    let offset = record.study.utc_offset_minutes;
    let mut out = String::from("time");
    for column in &table.columns {
        out.push_str(&format!("\t{} [{}]\t{} flags", plain(&column.label), plain(&column.unit), plain(&column.label)));
    }
    out.push('\n');
    for (t, cells) in &table.rows {
        out.push_str(&field(*t, offset));
        for (cell, column) in cells.iter().zip(&table.columns) {
            let value = cell.as_ref().and_then(|c| c.value).map(|v| format!("{v:.*}", column.decimals + 1));
            let flags = cell.iter().flat_map(|c| &c.flags).map(|(test, _)| test.code()).collect::<Vec<_>>().join(" ");
            out.push_str(&format!("\t{}\t{flags}", value.unwrap_or_default()));
        }
        out.push('\n');
    }
    Ok(download::attachment("text/tab-separated-values; charset=utf-8", "readings.tsv", out))
}

/// A name that breaks no cell.
fn plain(name: &str) -> String {
    name.replace(['\t', '\n', '\r'], " ")
}
