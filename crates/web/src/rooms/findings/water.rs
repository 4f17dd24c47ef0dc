//! Water in the profile: what is stored, what each rain brought, what passed the roots, how it dries, what it holds.

use super::frame::{Loaded, Tabs, counted, date, loaded, number, strips};
use crate::components::trace::{Frame, Source, Trace, draw};
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{field, fixed, moment, signed, typed_time, when};
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::findings::{CAPACITY_MM, WaterAsked, WaterFindings, planned_sentinel, water};
use ebrel_core::findings::{FACTORY_HALF_WIDTH, Inflow, Wetting};
use ebrel_core::roles::Role;
use ebrel_core::series::View;
use ebrel_core::units::UnixSeconds;
use ebrel_core::water::DepthError;
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
struct FallRow {
    link: String,
    when: String,
    kind: &'static str,
    mm: String,
    stored: String,
    passed: String,
    unexplained: String,
    share: String,
    arrivals: Vec<String>,
    speed: String,
    out_of_order: bool,
}

/// A row of drying rates.
struct DryRow {
    depth: String,
    season: &'static str,
    whole: String,
    half: String,
    by_day: String,
    by_night: String,
    spells: usize,
    days: usize,
}

/// A row of field capacities.
struct CapacityRow {
    depth: String,
    seen: String,
    spread: String,
    rains: String,
    texture: String,
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
    let place = state.heavy.take().await?;
    let Loaded { record, neighbours, flags } = loaded(&state, *id).await?;
    let planned = planned_sentinel(&state.store, *id).await?;
    let (study, station) = (record.study.clone(), record.station.clone());
    let tabs = Tabs::of(&record, "Water");
    let shell = Shell::within(&state, &actor, "Water in the profile", Room::Findings, &study, Some(&station)).await?;
    let q = query.into_inner();
    let (asked, error) = match read(&q, planned, study.utc_offset_minutes) {
        Ok(asked) => (asked, None),
        Err(sentence) => (WaterAsked { sentinel_cm: planned, ..WaterAsked::default() }, Some(sentence)),
    };
    let (found, record) = {
        let asked = asked.clone();
        place.run(move || (water(&record, &neighbours, &flags, &asked), record)).await?
    };
    let offset = study.utc_offset_minutes;
    let mut made = WaterPage::empty(shell, tabs, &station.name, *id, error);
    match found {
        None => {
            made.answer = "No probe here tells water content yet.".into();
            made.missing = missing_content(&record);
        }
        Some(Err(problem)) => made.error = Some(sentence(problem)),
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

fn sentence(problem: DepthError) -> String {
    let text = problem.to_string();
    let mut letters = text.chars();
    letters.next().map_or_else(String::new, |first| format!("{}{}.", first.to_uppercase(), letters.as_str()))
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

fn stored_words(w: &WaterFindings, offset: i64) -> String {
    let Some((at, stored)) = w.last else {
        return format!("Down to {}\u{a0}cm nothing can be summed: no moment has a value at every depth.", w.bottom_cm);
    };
    let half = stored.half_width();
    format!(
        "Down to {}\u{a0}cm the soil held {} ± {}\u{a0}mm of water on {}.",
        fixed(w.bottom_cm, 0),
        fixed(stored.mm, 0),
        fixed(half, usize::from(half < 10.0)),
        moment(at, offset),
    )
}

fn more_words(w: &WaterFindings, offset: i64) -> Vec<String> {
    let mut all = Vec::new();
    if let Some(((low_at, low), (high_at, high))) = w.extremes {
        all.push(format!(
            "Driest {}\u{a0}mm ({}), wettest {}\u{a0}mm ({}).",
            fixed(low, 0),
            date(low_at, offset),
            fixed(high, 0),
            date(high_at, offset)
        ));
    }
    let passed: Vec<f64> = w.wettings.iter().filter_map(|f| came_to_sentinel(w, f)).collect();
    if let Some(depth) = w.sentinel.map(|s| w.depths[s]) {
        all.push(match passed.len() {
            0 => format!("No fall of water reached the sentinel at {depth}\u{a0}cm."),
            n => format!(
                "{n} of {} falls of water reached the sentinel at {depth}\u{a0}cm: at least {}\u{a0}mm passed the roots.",
                w.wettings.len(),
                fixed(passed.iter().sum(), 0)
            ),
        });
    }
    all
}

/// What passed the sentinel, mm, if the front came there.
fn came_to_sentinel(w: &WaterFindings, f: &Wetting) -> Option<f64> {
    w.sentinel.filter(|s| f.arrivals[*s].is_some()).and(f.passed_mm)
}

fn missing(w: &WaterFindings, asked: &WaterAsked, planned: Option<f64>) -> Vec<String> {
    let mut all = Vec::new();
    if w.rain.is_none() {
        all.push(
            "No gauge tells of rain here or within 5 km: falls, drying and field capacity need one. Add a gauge, or paste its readings under \
             Record, By hand."
                .into(),
        );
    }
    if w.depths.len() == 1 {
        all.push(format!(
            "Only one depth tells water content ({}\u{a0}cm): the sum takes the whole profile as that depth.",
            w.depths[0]
        ));
    }
    if w.sentinel.is_none() && w.depths.len() > 1 {
        all.push(match (planned, asked.sentinel_cm) {
            (_, Some(cm)) => format!("No probe tells water content at {cm}\u{a0}cm: choose another sentinel."),
            _ => "No probe is set as the sentinel below the roots: choose one here, or in the plan. Until then nothing is said of what passed."
                .into(),
        });
    }
    if w.uncalibrated > 0 {
        let probes = if w.uncalibrated == 1 { "1 probe".to_owned() } else { format!("{} probes", w.uncalibrated) };
        let are = if w.uncalibrated == 1 { "is" } else { "are" };
        all.push(format!("{probes} without a calibration {are} not in it: adopt one at the Bench."));
    }
    if w.assumes_factory {
        all.push(format!(
            "Some probes came with their maker's curve or without an uncertainty: ±{FACTORY_HALF_WIDTH}\u{a0}m³/m³ is assumed for each."
        ));
    }
    if !w.twins.is_empty() {
        let depths: Vec<String> = w.twins.iter().map(|d| format!("{d}\u{a0}cm")).collect();
        all.push(format!(
            "Twins at {} count with their mean; where one is missing the other stands alone.",
            depths.join(", ")
        ));
    }
    all
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
        },
    )
}

fn change_words(w: &WaterFindings, offset: i64) -> String {
    match &w.change {
        None => String::new(),
        Some((a, b, Some(c))) => format!(
            "From {} to {} the profile changed by {} ± {}\u{a0}mm.",
            moment(*a, offset),
            moment(*b, offset),
            signed(c.mm, 1),
            fixed(c.half_width, 1)
        ),
        Some((a, b, None)) => format!(
            "Of the change from {} to {} nothing can be said: one of both lies outside the record or in a gap of some depth.",
            moment(*a, offset),
            moment(*b, offset)
        ),
    }
}

fn fall_row(f: &Wetting, station: i64, offset: i64) -> FallRow {
    let day = ebrel_core::units::SpanSeconds(86_400);
    let or_gap = |text: Option<String>| text.unwrap_or_else(|| "gap".into());
    FallRow {
        link: strips(station, f.fall.start - day, f.fall.end + day + day, "moisture"),
        when: moment(f.fall.start, offset),
        kind: if f.fall.kind == Inflow::Rain { "rain" } else { "given" },
        mm: fixed(f.fall.mm, 1),
        stored: or_gap(f.stored.map(|s| format!("{} ± {}", signed(s.mm, 1), fixed(s.half_width, 1)))),
        passed: f.passed_mm.map_or_else(|| "–".into(), |mm| fixed(mm, 1)),
        unexplained: or_gap(f.unexplained_mm.map(|mm| signed(mm, 1))),
        share: f.infiltrated().map_or_else(|| "–".into(), |s| format!("{}\u{a0}%", fixed(100.0 * s, 0))),
        arrivals: f
            .arrivals
            .iter()
            .map(|a| {
                a.map_or_else(
                    || "–".into(),
                    |a| format!("{}\u{a0}h", fixed((a.time - f.fall.start).0 as f64 / 3600.0, 1)),
                )
            })
            .collect(),
        speed: f.speed_cm_h.map_or_else(|| "–".into(), |s| fixed(s, 1)),
        out_of_order: f.out_of_order,
    }
}

fn drying(w: &WaterFindings, cm: &dyn Fn(f64) -> String) -> Vec<DryRow> {
    let row = |r: &ebrel_core::findings::SeasonRates| {
        // m³/m³ over the layer that the probe stands for, as mm.
        let mm = w.weights[r.level];
        DryRow {
            depth: cm(w.depths[r.level]),
            season: r.season.months(),
            whole: signed(r.rates.whole * mm, 2),
            half: r.half_width.map_or_else(|| "–".into(), |h| fixed(h * mm, 2)),
            by_day: signed(r.rates.by_day * mm, 2),
            by_night: signed(r.rates.by_night * mm, 2),
            spells: r.spells,
            days: r.rates.days,
        }
    };
    w.rates.iter().map(row).collect()
}

fn capacity(w: &WaterFindings, cm: &dyn Fn(f64) -> String) -> Vec<CapacityRow> {
    let row = |c: &ebrel_app::findings::LevelCapacity| CapacityRow {
        depth: cm(c.depth_cm),
        seen: c.seen.as_ref().map_or_else(|| "–".into(), |s| fixed(s.median, 3)),
        spread: c.seen.as_ref().map_or_else(
            || "–".into(),
            |s| {
                let (low, high) = s.interval();
                format!("{}–{}", fixed(low, 3), fixed(high, 3))
            },
        ),
        rains: c.seen.as_ref().map_or_else(|| "none".into(), |s| s.rains.len().to_string()),
        texture: c.by_texture.map_or_else(|| "texture unknown".into(), |t| fixed(t, 3)),
    };
    w.capacity.iter().map(row).collect()
}

/// How often, and at least how much, passed the sentinel: by year.
fn drainage(w: &WaterFindings, offset: i64) -> Vec<(String, usize, String)> {
    let mut years: Vec<(String, usize, f64)> = Vec::new();
    for f in &w.wettings {
        let Some(mm) = came_to_sentinel(w, f) else { continue };
        let year = when(f.fall.start, offset, "%Y");
        match years.last_mut().filter(|y| y.0 == year) {
            Some(known) => (known.1, known.2) = (known.1 + 1, known.2 + mm),
            None => years.push((year, 1, mm)),
        }
    }
    years.into_iter().map(|(year, n, mm)| (year, n, fixed(mm, 0))).collect()
}

fn how(w: &WaterFindings) -> Vec<String> {
    let mut all = vec![
        format!("It rests on {}.", counted(w.counts)),
        "Content is taken as that of the first probe above it, as linear in depth between probes, and as that of the last probe below it \
         (trapezoidal rule)."
            .to_owned(),
    ];
    let (steps, gaps) = w.steps;
    if gaps > 0 {
        let worst = w.lacking.iter().enumerate().max_by_key(|l| l.1);
        let depth =
            worst.map_or_else(String::new, |(i, n)| format!(" (most often {}\u{a0}cm: {n} of them)", w.depths[i]));
        all.push(format!(
            "At {gaps} of {steps} times some depth has a gap{depth}: nothing is summed there, and no gap is bridged. Leave that depth out to \
             sum without it."
        ));
    }
    all.push(
        "The ± holds at 95 %. The error of a calibration and of a probe's seat is the same for all of its readings and falls out of a change; \
         probes of one calibration err together. Between two probes the content is held to lie between both."
            .to_owned(),
    );
    all.push(format!(
        "A fall ends with six hours without rain and works on for 36 h, or until the next. Stored: the gain six hours after its end, when the front has \
         spread, above the middle between the sentinel and the probe over it. Passed: at least what the soil from there to the sentinel gained. Not explained: the rest: leaves, \
         runoff, evaporation, and what went on below. A front has come when a quarter of the rise is reached. Field capacity as seen: mean from \
         24 to 48\u{a0}h after falls of at least {CAPACITY_MM}\u{a0}mm that filled the depth, so that the next one answered, \
         and after which it stayed dry, within their spread and the calibration's ±; in summer roots drink \
         meanwhile. By texture: Saxton & Rawls 2006."
    ));
    let sun = if w.knows_sun { "sunrise and sunset of the place" } else { "6 and 18 h, since the place is not known" };
    all.push(format!(
        "Drying is reckoned from a day after each rain, day from night by {sun}. What goes by night is drainage; what goes by day beyond that, \
         uptake, evaporation, and the probe's own answer to warmth."
    ));
    if let Some(Some(of)) = &w.rain {
        all.push(format!("Rain is that of the gauge of {of}."));
    }
    all
}
