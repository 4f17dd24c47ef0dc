//! Water in the profile: what is stored, what each rain brought, what passed the roots, how it dries, what it holds.

use super::frame::{Loaded, Tabs, loaded, number, sentence};
use super::water_words::{capacity, change_words, drainage, drying, fall_row, how, missing, more_words, stored_words};
use crate::components::trace::{Frame, Source, Trace, draw};
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{field, fixed, typed_time, when};
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::findings::{WaterAsked, WaterFindings, planned_sentinel, water};
use ebrel_core::findings::Wetting;
use ebrel_core::roles::Role;
use ebrel_core::series::View;
use ebrel_core::units::UnixSeconds;
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/findings/water", Least::Member(Role::Guest), show);
}

/// What the form of the page asks.
#[derive(Deserialize, Default)]
struct Query {
    bottom: Option<String>,
    sentinel: Option<String>,
    least: Option<String>,
    from: Option<String>,
    to: Option<String>,
    /// A depth that is left out.
    without: Option<String>,
    sort: Option<String>,
}

/// A row of the table of falls.
pub(super) struct FallRow {
    pub link: String,
    pub when: String,
    pub kind: &'static str,
    pub mm: String,
    pub stored: String,
    pub passed: String,
    pub unexplained: String,
    pub share: String,
    pub arrivals: Vec<String>,
    pub speed: String,
    pub out_of_order: bool,
}

/// A row of drying rates.
pub(super) struct DryRow {
    pub depth: String,
    pub season: &'static str,
    pub whole: String,
    pub half: String,
    pub by_day: String,
    pub by_night: String,
    pub spells: usize,
    pub days: usize,
}

/// A row of field capacities.
pub(super) struct CapacityRow {
    pub depth: String,
    pub seen: String,
    pub spread: String,
    /// What roots and sun took until the middle of the second day, m³/m³.
    pub taken: String,
    pub rains: String,
    pub texture: String,
}

#[derive(Template)]
#[template(path = "rooms/findings/water.html")]
struct WaterPage {
    shell: Shell,
    tabs: Tabs,
    station: String,
    id: i64,
    answer: String,
    more: Vec<String>,
    /// What is missing, and where to add it.
    missing: Vec<String>,
    error: Option<String>,
    bottom: String,
    least: String,
    from: String,
    to: String,
    depths: Vec<(String, bool)>,
    without: Vec<(String, bool)>,
    trace: Option<Trace>,
    change: String,
    columns: Vec<String>,
    falls: Vec<FallRow>,
    unlisted: usize,
    drying: Vec<DryRow>,
    capacity: Vec<CapacityRow>,
    drainage: Vec<(String, usize, String)>,
    how: Vec<String>,
    sorts: Vec<(&'static str, &'static str, bool)>,
    query: String,
}

/// Rows of a table on the page.
const LISTED: usize = 400;

async fn show(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    query: web::Query<Query>,
) -> Result<HttpResponse, Problem> {
    let place = state.thinning.take().await?;
    let Loaded { of, neighbours } = loaded(&state, *id).await?;
    let planned = planned_sentinel(&state.store, *id).await?;
    let (study, station) = (of.record.study.clone(), of.record.station.clone());
    let tabs = Tabs::of(&of.record, "Water");
    let shell = Shell::within(&state, &actor, "Water in the profile", Room::Findings, &study, Some(&station)).await?;
    let q = query.into_inner();
    let (asked, error) = match read(&q, planned, study.utc_offset_minutes) {
        Ok(asked) => (asked, None),
        Err(sentence) => (WaterAsked { sentinel_cm: planned, ..WaterAsked::default() }, Some(sentence)),
    };
    let (found, of, asked) = place.run(move || (water(&of, &neighbours, &asked), of, asked)).await?;
    let offset = study.utc_offset_minutes;
    let mut made = WaterPage::empty(shell, tabs, &station.name, *id, error);
    match found {
        None => {
            made.answer = "No probe here tells water content yet.".into();
            made.missing = missing_content(&of.record);
        }
        Some(Err(problem)) => made.error = Some(sentence(&problem)),
        Some(Ok(found)) => made.fill(&found, &asked, &q, planned, offset),
    }
    page(&made)
}

/// What must be added before water is found.
fn missing_content(record: &ebrel_app::record::StationRecord) -> Vec<String> {
    let raw = record.channels.iter().filter(|c| c.quantity() == ebrel_core::units::Quantity::RawOutput).count();
    if raw > 0 {
        let probes = if raw == 1 { "1 probe tells".to_owned() } else { format!("{raw} probes tell") };
        return vec![format!("{probes} raw output only: adopt a calibration at the Bench.")];
    }
    vec!["There is no moisture probe with readings: place one in the Field, and import its file.".into()]
}

/// The query as what is asked; the error is a sentence.
fn read(q: &Query, planned: Option<f64>, offset: i64) -> Result<WaterAsked, String> {
    let time = |text: &Option<String>| match text.as_deref().map(str::trim) {
        None | Some("") => Ok(None),
        Some(text) => typed_time(text, offset).map(Some),
    };
    let (from, to) = (time(&q.from)?, time(&q.to)?);
    let sentinel_cm = match q.sentinel.as_deref() {
        None => planned,
        Some("none") => None,
        some => number(some, "Sentinel", 1.0..=500.0)?,
    };
    Ok(WaterAsked {
        bottom_cm: number(q.bottom.as_deref(), "Down to", 1.0..=500.0)?,
        least_mm: number(q.least.as_deref(), "Falls of at least", 0.2..=200.0)?,
        change: from.zip(to),
        without_cm: number(q.without.as_deref().filter(|w| *w != "none"), "Without", 0.0..=500.0)?
            .into_iter()
            .collect(),
        sentinel_cm,
        ..WaterAsked::default()
    })
}

impl WaterPage {
    fn empty(shell: Shell, tabs: Tabs, station: &str, id: i64, error: Option<String>) -> Self {
        Self {
            shell,
            tabs,
            station: station.to_owned(),
            id,
            answer: String::new(),
            more: Vec::new(),
            missing: Vec::new(),
            error,
            bottom: String::new(),
            least: String::new(),
            from: String::new(),
            to: String::new(),
            depths: Vec::new(),
            without: Vec::new(),
            trace: None,
            change: String::new(),
            columns: Vec::new(),
            falls: Vec::new(),
            unlisted: 0,
            drying: Vec::new(),
            capacity: Vec::new(),
            drainage: Vec::new(),
            how: Vec::new(),
            sorts: Vec::new(),
            query: String::new(),
        }
    }

    fn fill(&mut self, w: &WaterFindings, asked: &WaterAsked, q: &Query, planned: Option<f64>, offset: i64) {
        let cm = |d: f64| fixed(d, usize::from(d.fract() != 0.0));
        self.bottom = cm(w.bottom_cm);
        self.least = fixed(asked.least_mm.unwrap_or(5.0), 1);
        (self.from, self.to) = match asked.change {
            Some((a, b)) => (field(a, offset), field(b, offset)),
            None => (q.from.clone().unwrap_or_default(), q.to.clone().unwrap_or_default()),
        };
        self.depths = w.depths.iter().enumerate().skip(1).map(|(i, d)| (cm(*d), w.sentinel == Some(i))).collect();
        let left: Vec<String> = asked.without_cm.iter().map(|d| cm(*d)).collect();
        self.without = w.depths.iter().map(|d| (cm(*d), false)).chain(left.into_iter().map(|d| (d, true))).collect();
        self.answer = stored_words(w, offset);
        self.more = more_words(w, offset);
        self.missing = missing(w, asked, planned);
        self.trace = drawn(w, offset);
        self.change = change_words(w, offset);
        self.columns = w.depths.iter().map(|d| format!("{}\u{a0}cm", cm(*d))).collect();
        let sort = q.sort.as_deref().unwrap_or("time");
        self.sorts = SORTS.iter().map(|(key, name)| (*key, *name, *key == sort)).collect();
        self.query = kept(q);
        let mut falls: Vec<&Wetting> = w.wettings.iter().collect();
        sorted(&mut falls, sort);
        self.unlisted = falls.len().saturating_sub(LISTED);
        self.falls = falls.into_iter().take(LISTED).map(|f| fall_row(f, self.id, offset)).collect();
        self.drying = drying(w, &cm);
        self.capacity = capacity(w, &cm);
        self.drainage = drainage(w, offset);
        self.how = how(w);
    }
}

/// Orders of the table of falls: word in the address, and in words.
const SORTS: [(&str, &str); 5] = [
    ("time", "newest"),
    ("mm", "most water"),
    ("stored", "most stored"),
    ("passed", "most passed"),
    ("speed", "fastest"),
];

fn sorted(falls: &mut [&Wetting], by: &str) {
    let down = |of: fn(&Wetting) -> Option<f64>| {
        move |a: &&Wetting, b: &&Wetting| of(b).unwrap_or(f64::MIN).total_cmp(&of(a).unwrap_or(f64::MIN))
    };
    match by {
        "mm" => falls.sort_by(down(|w| Some(w.fall.mm))),
        "stored" => falls.sort_by(down(|w| w.stored.map(|s| s.mm))),
        "passed" => falls.sort_by(down(|w| w.passed_mm)),
        "speed" => falls.sort_by(down(|w| w.speed_cm_h)),
        _ => falls.sort_by_key(|w| std::cmp::Reverse(w.fall.start)),
    }
}

/// The query again, without its order.
fn kept(q: &Query) -> String {
    let all = [
        ("bottom", &q.bottom),
        ("sentinel", &q.sentinel),
        ("least", &q.least),
        ("from", &q.from),
        ("to", &q.to),
        ("without", &q.without),
    ];
    let pairs: Vec<(&str, &str)> = all.iter().filter_map(|(k, v)| Some((*k, v.as_deref()?))).collect();
    serde_urlencoded::to_string(pairs).unwrap_or_default()
}

fn drawn(w: &WaterFindings, offset: i64) -> Option<Trace> {
    let times: Vec<i64> = w.series.iter().map(|s| s.0.0).collect();
    let of = |f: &dyn Fn(f64, f64) -> f64| w.series.iter().map(|s| f(s.1.mm, s.1.half_width())).collect::<Vec<f64>>();
    let (mm, low, high) = (of(&|m, _| m), of(&|m, h| m - h), of(&|m, h| m + h));
    let view = |values| View { times: &times, values };
    let (first, last) = (times.first()?, times.last()?);
    let sources = [Source { name: String::new(), view: view(&mm), dash: 1 }];
    draw(
        &sources,
        Frame {
            span: (UnixSeconds(*first), UnixSeconds(*last)),
            shade: None,
            when: &|t, form| when(t, offset, form),
            unit: "mm, with 95 % band".into(),
            words: "Water stored in the profile through time with its 95 % band".into(),
            band: Some((view(&low), view(&high))),
            by_hand: &[],
        },
    )
}
