//! How dry before it stops: responses of plants held against water content or tension, with a break or without one.

use super::bring;
use super::frame::{Tabs, counted, sentence};
use crate::components::trace::{Axes, Cloud, Point as Drawn, cloud};
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{fixed, moment, signed};
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::findings::{Abscissa, ResponseError, Responses, own_pairs, responses};
use ebrel_app::record::Flagged;
use ebrel_core::findings::Threshold;
use ebrel_core::roles::Role;
use ebrel_core::units::Quantity;
use ebrel_core::water::{VanGenuchten, fit_retention};
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/studies/{id}/findings/thresholds", Least::Member(Role::Guest), show);
    routes.post("/studies/{id}/findings/thresholds", Least::Member(Role::Field), bring::keep);
    routes.post("/studies/{id}/findings/thresholds/{table}/remove", Least::Member(Role::Field), bring::remove);
}

#[derive(Deserialize, Default)]
pub(super) struct Query {
    table: Option<String>,
    take: Option<String>,
    axis: Option<String>,
    curve: Option<String>,
    station: Option<String>,
}

/// What is typed.
#[derive(Deserialize, Default)]
pub(super) struct Typed {
    #[serde(default)]
    pub name: String,
    #[serde(default)]
    pub unit: String,
    #[serde(default)]
    pub rows: String,
}

type Choice = (String, String, bool);

#[derive(Template)]
#[template(path = "rooms/findings/thresholds.html")]
pub(super) struct ThresholdsPage {
    shell: Shell,
    tabs: Option<Tabs>,
    study: i64,
    answer: String,
    more: Vec<String>,
    cannot: Vec<String>,
    tables: Vec<Choice>,
    takes: Vec<Choice>,
    axes: Vec<Choice>,
    curves: Vec<Choice>,
    table: Option<i64>,
    about: String,
    cloud: Option<Cloud>,
    profile: Option<Cloud>,
    how: Vec<String>,
    typed: Typed,
    pub slips: Vec<String>,
}

/// Texture classes that a retention curve is published for.
const CLASSES: [&str; 12] = [
    "sand",
    "loamy sand",
    "sandy loam",
    "loam",
    "silt",
    "silt loam",
    "sandy clay loam",
    "clay loam",
    "silty clay loam",
    "sandy clay",
    "silty clay",
    "clay",
];

impl ThresholdsPage {
    pub async fn empty(
        state: &State,
        actor: &Actor,
        study_id: i64,
        station: Option<&str>,
        typed: Typed,
    ) -> Result<Self, Problem> {
        let study = state.store.study(study_id).await?;
        let stations = state.store.stations(study_id).await?;
        let number = station.and_then(|s| s.parse::<i64>().ok());
        let station = stations.iter().find(|s| Some(s.id) == number).or_else(|| stations.first());
        let shell = Shell::within(state, actor, "Thresholds", Room::Findings, &study, station).await?;
        Ok(Self {
            shell,
            tabs: station.map(|s| Tabs { station: s.id, study: study_id, here: "Thresholds" }),
            study: study_id,
            answer: String::new(),
            more: Vec::new(),
            cannot: Vec::new(),
            tables: Vec::new(),
            takes: Vec::new(),
            axes: Vec::new(),
            curves: Vec::new(),
            table: None,
            about: String::new(),
            cloud: None,
            profile: None,
            how: Vec::new(),
            typed,
            slips: Vec::new(),
        })
    }
}

async fn show(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    query: web::Query<Query>,
) -> Result<HttpResponse, Problem> {
    let made = ThresholdsPage::empty(&state, &actor, *id, query.station.as_deref(), Typed::default()).await?;
    answered(&state, made, &query).await
}

/// The page with what the chosen table tells.
pub(super) async fn answered(state: &State, mut made: ThresholdsPage, q: &Query) -> Result<HttpResponse, Problem> {
    let place = state.thinning.take().await?;
    let mut tables = state.store.responses(made.study).await?;
    let offset = state.store.study(made.study).await?.utc_offset_minutes;
    let wanted = q.table.as_deref().and_then(|t| t.parse::<i64>().ok());
    let at = tables.iter().position(|t| Some(t.id) == wanted).unwrap_or(0);
    made.tables = tables.iter().enumerate().map(|(i, t)| (t.id.to_string(), t.name.clone(), i == at)).collect();
    if tables.is_empty() {
        made.answer = "No response is known yet: paste a table of what the plants did.".into();
        return page(&made);
    }
    let table = tables.swap_remove(at);
    let stations = Flagged::of_study(&state.store, made.study).await?;
    let growth = q.take.as_deref() != Some("value");
    let curves = curves(&stations);
    let chosen = q.curve.as_deref().and_then(|c| curves.iter().find(|k| k.word == c)).or_else(|| curves.first());
    let axis = q.axis.as_deref().unwrap_or("content");
    made.table = Some(table.id);
    made.about = format!(
        "{} values in {}, brought by {} on {}.",
        table.values.len(),
        if table.unit.is_empty() { "no unit" } else { &table.unit },
        if table.by.is_empty() { "somebody" } else { &table.by },
        moment(table.at, offset)
    );
    made.takes = vec![
        ("growth".into(), "its change a day".into(), growth),
        ("value".into(), "the value itself".into(), !growth),
    ];
    made.axes =
        [("content", "water content"), ("tension", "tension by its probes"), ("curve", "tension through a curve")]
            .map(|(v, w)| (v.to_owned(), w.to_owned(), v == axis))
            .into();
    let taken = chosen.map(|c| c.word.as_str()).unwrap_or_default();
    made.curves = curves.iter().map(|c| (c.word.clone(), c.name.clone(), c.word == taken)).collect();
    let abscissa = match (axis, chosen) {
        ("tension", _) => Abscissa::Tension,
        ("curve", Some(of)) => Abscissa::ThroughCurve(of.curve),
        _ => Abscissa::Content,
    };
    let unit = if growth { format!("{} a day", table.unit) } else { table.unit.clone() };
    let name = table.name.clone();
    let found = place.run(move || responses(&stations, &table, growth, abscissa)).await?;
    match found {
        Ok(found) => made.fill(&found, abscissa, &name, &unit, chosen),
        Err(problem) => made.refuse(&problem),
    }
    page(&made)
}

/// A retention curve to choose.
struct Retention {
    /// Its word in addresses.
    word: String,
    name: String,
    curve: VanGenuchten,
    /// 95 % half width of content about it, m³/m³.
    half_width: f64,
    /// What is to be said of it.
    about: String,
}

/// Half width of the contents of single soils about the curve of their class, m³/m³: two standard deviations of what Carsel & Parrish (1988,
/// table 3) tell of residual and saturated contents.
const CLASS_HALF_WIDTH: f64 = 0.06;

/// Own pairs of tension and content first, then published classes; the class of the soil at hand before the others.
fn curves(stations: &[Flagged]) -> Vec<Retention> {
    let mut all = Vec::new();
    for of in stations {
        let record = &of.record;
        let depths = record.channels.iter().filter(|c| c.quantity() == Quantity::WaterTension);
        let mut depths: Vec<f64> = depths.filter_map(|c| c.channel.placement.depth_cm).collect();
        depths.sort_by(f64::total_cmp);
        depths.dedup();
        for depth in depths {
            let Ok(fit) = fit_retention(&own_pairs(of, depth), 0.0) else { continue };
            let name = format!("own pairs, {} at {depth}\u{a0}cm", record.station.name);
            let said = format!(
                "The curve is fitted to {} pairs of tension and content of {} at {depth}\u{a0}cm: 95\u{a0}% of them lie within ±{}\u{a0}m³/m³ of it, \
                 from {} to {}\u{a0}kPa; beyond, it is an extrapolation.",
                fit.pairs,
                record.station.name,
                fixed(fit.half_width, 3),
                fixed(fit.range_kpa.0, 0),
                fixed(fit.range_kpa.1, 0)
            );
            let word = format!("own-{}-{depth}", record.station.id);
            all.push(Retention { word, name, curve: fit.curve, half_width: fit.half_width, about: said });
        }
    }
    let here: Vec<String> =
        stations.iter().flat_map(|s| s.record.soil.horizons()).map(|h| h.texture.trim().to_lowercase()).collect();
    let mut classes: Vec<&str> = CLASSES.into();
    classes.sort_by_key(|c| !here.iter().any(|h| h == c));
    all.extend(classes.into_iter().filter_map(|class| {
        let curve = VanGenuchten::of_class(class)?;
        let said = format!(
            "The curve is the mean of the class {class} (Carsel & Parrish 1988): single soils of a class differ so much that tension through it is \
             known to a factor of two or three only."
        );
        let (word, name) = (class.replace(' ', "-"), format!("class {class}"));
        Some(Retention { word, name, curve, half_width: CLASS_HALF_WIDTH, about: said })
    }));
    all
}

impl ThresholdsPage {
    fn refuse(&mut self, problem: &ResponseError) {
        self.answer = sentence(problem);
        if matches!(problem, ResponseError::Threshold(_)) {
            self.cannot.push("Bring more rows: over more weeks, or of more plants, from wet to dry.".into());
        }
    }

    fn fill(&mut self, found: &Responses, abscissa: Abscissa, name: &str, unit: &str, curve: Option<&Retention>) {
        let t = &found.threshold;
        let tension = abscissa != Abscissa::Content;
        let of = |x: f64| if tension { fixed(10f64.powf(x), 0) } else { fixed(x, 3) };
        let at = |x: f64| format!("{}\u{a0}{}", of(x), if tension { "kPa" } else { "m³/m³" });
        let span = |(low, high): (f64, f64)| format!("{} to {}", of(low), of(high));
        let what = if tension { "a tension of " } else { "a water content of " };
        self.answer = if t.breaks {
            format!("“{name}” breaks at {what}{} ({} at 95\u{a0}%).", at(t.two.at), span(t.interval()))
        } else {
            format!("No threshold can be told in “{name}”: a straight line describes it as well.")
        };
        let (below, above) = if tension { ("wetter", "drier") } else { ("drier", "wetter") };
        let per = if tension { "tenfold of tension" } else { "0.01 m³/m³" };
        let scale = if tension { 1.0 } else { 0.01 };
        self.more = vec![
            format!(
                "Two segments: {} {unit} for each {per} on the {below} side, {} on the {above} side, {} {unit} at the break.",
                signed(t.two.slopes.0 * scale, 3),
                signed(t.two.slopes.1 * scale, 3),
                signed(t.two.value, 3)
            ),
            format!(
                "Interval of the break by profile likelihood: {}; by resampling {}: {}.",
                span(t.by_profile),
                if t.groups > 0 { format!("{} points of the table", t.groups) } else { "single rows".into() },
                span(t.by_bootstrap)
            ),
            format!(
                "AICc of the line {}, of two segments {}: a difference of at least 2 is wanted for a break.",
                fixed(t.line.aicc, 1),
                fixed(t.two.aicc, 1)
            ),
        ];
        if t.is_open() {
            self.cannot.push(
                "The interval reaches an end of what was seen: the break may lie beyond. Let it get wetter or drier."
                    .into(),
            );
        }
        if t.groups == 0 {
            self.cannot.push("Fewer than five plants or tubs: rows of one are no independent witnesses, and the interval is too narrow.".into());
        }
        match (abscissa, curve) {
            (Abscissa::Content, Some(of)) if t.breaks => self.more.push(in_tension(t, of)),
            (Abscissa::ThroughCurve(_), Some(of)) => self.cannot.push(of.about.clone()),
            _ => {}
        }
        self.draw(found, tension, unit);
        self.how = vec![
            format!(
                "Of {} rows {} are points of the fit; {} are the first of their plant, {} have no probe of their name, {} no believed reading in their \
                 time, {} lie where the retention curve has no tension. The probes told {}.",
                found.rows,
                found.points.len(),
                found.firsts,
                found.unmatched,
                found.without_reading,
                found.beyond_curve,
                counted(found.counts)
            ),
            "A change a day is held against the mean of the believed readings between its two rows; a value against the mean of the day around it. \
             The two lines meet; the break is searched over all places with two different abscissae on each side. Where a table has five points or \
             more, whole points are resampled, since the rows of one plant are alike."
                .into(),
        ];
    }

    fn draw(&mut self, found: &Responses, tension: bool, unit: &str) {
        let t: &Threshold = &found.threshold;
        let points = found.points.iter().map(|p| Drawn::plain(p.x, p.y));
        let bend = Drawn { x: t.two.at, y: t.two.value, name: "break".into(), own: true };
        let x = if tension { "log₁₀ of tension in kPa" } else { "water content, m³/m³" };
        let axes = |line| Axes {
            x: x.into(),
            y: unit.to_owned(),
            down: false,
            line,
            words: "The response against the soil's water, with the break".into(),
        };
        let line = (!t.breaks).then_some((t.line.intercept, t.line.slope));
        self.cloud = cloud(points.chain(t.breaks.then_some(bend)).collect(), axes(line));
        let profile = t.profile.iter().filter(|p| p.1.is_finite()).map(|p| Drawn::plain(p.0, p.1.sqrt()));
        let of_profile = Axes {
            y: format!("root of squares, {unit}"),
            words: "How well each place of the break fits".into(),
            ..axes(None)
        };
        self.profile = cloud(profile.collect(), of_profile);
    }
}

/// The break as a tension, with what its interval and the curve's scatter make of it.
fn in_tension(t: &Threshold, of: &Retention) -> String {
    let kpa = |theta: f64| of.curve.kpa(theta).map(|kpa| fixed(kpa, 0));
    let (low, high) = t.interval();
    let (wet, dry) = (kpa(high + of.half_width), kpa(low - of.half_width));
    match kpa(t.two.at) {
        None => format!("Through the curve of {} no tension belongs to that content.", of.name),
        Some(at) => format!(
            "In tension that is {at}\u{a0}kPa through the curve of {} ({} to {} with the interval and the scatter of soils about the curve, \
             ±{}\u{a0}m³/m³).",
            of.name,
            wet.unwrap_or_else(|| "0".into()),
            dry.unwrap_or_else(|| "beyond it".into()),
            fixed(of.half_width, 3)
        ),
    }
}
