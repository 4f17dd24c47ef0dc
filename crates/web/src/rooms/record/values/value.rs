//! How one value came about, as a page and as JSON.

use super::readings::group_of;
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{fixed, moment, signed};
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::provenance::{Budget, Came, FromPackage, WayBack, way_back};
use ebrel_app::record::StationRecord;
use ebrel_core::quality::Test;
use ebrel_core::roles::Role;
use ebrel_core::units::{Quantity, UnixSeconds, unit_for_people};
use ebrel_formats::parse_rfc3339;
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/values/{stream}", Least::Member(Role::Guest), show);
    routes.get("/stations/{id}/values/{stream}/way.json", Least::Member(Role::Guest), json);
}

#[derive(Deserialize)]
struct Asked {
    at: i64,
}

/// One step of the way, with where more is to be seen.
struct Step {
    name: &'static str,
    says: String,
    link: Option<(String, &'static str)>,
}

#[derive(Template)]
#[template(path = "rooms/record/values/value.html")]
struct ValuePage {
    shell: Shell,
    id: i64,
    stream: i64,
    at: i64,
    channel: String,
    answer: String,
    /// Which channels the table beside it shows.
    show: &'static str,
    steps: Vec<Step>,
}

async fn json(
    state: web::Data<State>,
    path: web::Path<(i64, i64)>,
    asked: web::Query<Asked>,
) -> Result<web::Json<WayBack>, Problem> {
    let (id, stream) = path.into_inner();
    let record = StationRecord::load(&state.store, id).await?;
    Ok(web::Json(way_back(&state.store, &state.data, &record, (stream, UnixSeconds(asked.at))).await?))
}

async fn show(
    state: web::Data<State>,
    actor: Actor,
    path: web::Path<(i64, i64)>,
    asked: web::Query<Asked>,
) -> Result<HttpResponse, Problem> {
    let (id, stream) = path.into_inner();
    let record = StationRecord::load(&state.store, id).await?;
    let at = UnixSeconds(asked.at);
    let way = way_back(&state.store, &state.data, &record, (stream, at)).await?;
    let offset = record.study.utc_offset_minutes;
    let quantity = record.channels.iter().find(|c| c.channel.stream.id == stream).map(|c| c.quantity());
    let decimals = quantity.map_or(3, Quantity::decimals);
    let shell = Shell::within(&state, &actor, "A value", Room::Record, &record.study, Some(&record.station)).await?;
    let unit = unit_for_people(&way.unit);
    let value = way.value.map_or_else(|| "no value yet".to_owned(), |v| format!("{}\u{a0}{unit}", fixed(v, decimals)));
    let known = way.uncertainty.map(|u| format!(" ± {}", fixed(u.all, decimals))).unwrap_or_default();
    page(&ValuePage {
        answer: format!("{value}{known}, measured {}.", moment(at, offset)),
        show: quantity.map_or("all", group_of),
        steps: steps(&way, id, offset, decimals, shell.may(Role::Field)),
        channel: format!("{}, {}, {}", quantity.map_or("", Quantity::words), way.channel, record.station.name),
        shell,
        id,
        stream,
        at: at.0,
    })
}

/// The way in steps, from where it came to what is said of it.
fn steps(way: &WayBack, id: i64, offset: i64, decimals: usize, may_import: bool) -> Vec<Step> {
    let at = |text: &str| parse_rfc3339(text).map_or_else(|| text.to_owned(), |t| moment(t, offset));
    let mut all = vec![came(&way.came, may_import, &at)];
    let (raw, unit) = (&way.raw, unit_for_people(&way.raw.unit));
    let node = format!("{}\u{a0}{unit} at port {} of {}; kept as it came", raw.value, raw.port, raw.node);
    all.push(Step { name: "it said", says: node, link: Some((format!("/stations/{id}/nodes"), "the node")) });
    for c in &way.contradicting {
        let chosen =
            if c.decided.is_empty() { "nobody chose yet".to_owned() } else { format!("chosen by {}", c.decided) };
        let says =
            format!("{}\u{a0}{unit}, and first {}\u{a0}{unit}; the {} stands, {chosen}", c.later, c.first, c.stands);
        let link = Some((format!("/stations/{id}/contradictions"), "came twice"));
        all.push(Step { name: "it came again as", says, link });
    }
    all.push(match &way.clock {
        None => Step { name: "its clock", says: "was taken as right".to_owned(), link: None },
        Some(c) => Step {
            name: "its clock",
            says: format!(
                "showed {}, {}\u{a0}s off by the checks beside it (known to ±{}\u{a0}s)",
                at(&c.shown),
                signed(c.ahead_s, 0),
                fixed(c.known_to_s, 0)
            ),
            link: Some((format!("/stations/{id}/clocks"), "the checks")),
        },
    });
    let p = &way.placement;
    let depth = p.depth_cm.map_or_else(|| "in no soil".to_owned(), |d| format!("at {d}\u{a0}cm"));
    let words = [p.model.as_str(), p.orientation.as_str(), p.note.as_str()];
    let words: Vec<&str> = words.into_iter().filter(|w| !w.is_empty()).collect();
    let until = p.until.as_ref().map(|u| format!(" until {}", at(u))).unwrap_or_default();
    let said = p.said_by.iter().map(|s| format!("{} by {} {}", s.what, s.by, at(&s.at)));
    let said: Vec<String> = words.into_iter().map(str::to_owned).chain(said).collect();
    let lay = format!("{} {depth} from {}{until}; {}", p.serial, at(&p.from), said.join(", "));
    all.push(Step {
        name: "the probe",
        says: lay,
        link: Some((format!("/stations/{id}/placements"), "its placements")),
    });
    if let Some(c) = &way.calibration {
        let beyond = if c.beyond_samples { "; this reading lies beyond its samples" } else { "" };
        let says = format!(
            "version {}, holds from {}, adopted by {} on {}: {}{beyond}",
            c.version,
            at(&c.valid_from),
            c.adopted_by,
            at(&c.adopted),
            c.statement
        );
        let link = c.run.map(|run| (format!("/bench/{run}/certificate"), "certificate and samples"));
        all.push(Step { name: "the calibration", says, link });
    }
    if let Some(k) = way.temperature_correction {
        all.push(Step { name: "corrected by", says: format!("{}\u{a0}K", signed(k, 3)), link: None });
    }
    if let Some(budget) = &way.uncertainty {
        all.push(Step { name: "known to", says: budget_words(budget, decimals), link: None });
    }
    for f in &way.flags {
        let title = Test::from_code(f.test).map_or(f.test, |t| t.definition().title);
        let verdict = match f.verdict {
            "left_out" => format!("Left out by {}.", f.decided),
            "kept" => format!("Kept by {}.", f.decided),
            _ => "No verdict yet.".to_owned(),
        };
        let says = format!("{title} ({}): {} {verdict}", f.grade, f.reason);
        all.push(Step { name: "flagged", says, link: Some((format!("/stations/{id}/review"), "review")) });
    }
    if way.flags.is_empty() {
        all.push(Step { name: "flagged", says: "by no test".to_owned(), link: None });
    }
    all
}

fn came(came: &Came, may_import: bool, at: &impl Fn(&str) -> String) -> Step {
    let received = came.received.as_deref().map(at).unwrap_or_default();
    if let Some(package) = &came.package {
        return by_package(came, package, &received, at);
    }
    let (says, link) = match (came.by, &came.file) {
        ("file", Some(f)) => {
            let line = f.line.map_or_else(|| "a line that is not found any more".to_owned(), |l| format!("line {l}"));
            let link = may_import.then(|| (format!("/imports/{}", f.import), "the import"));
            (format!("{line} of {}, imported by {} {received}", f.name, f.by), link)
        }
        ("message", _) => (format!("a message of the node, received {received}"), None),
        ("hand", _) => (format!("typed by hand, {received}"), None),
        ("demo", _) => (format!("made up for the demo, as if received {received}"), None),
        _ => ("stored before deliveries were kept".to_owned(), None),
    };
    Step { name: "it came by", says, link }
}

/// What a package says of where a reading was first received, and the package.
fn by_package(came: &Came, package: &FromPackage, received: &str, at: &impl Fn(&str) -> String) -> Step {
    let first = match came.by {
        "file" if !package.first_by.is_empty() => {
            format!("{}, imported elsewhere by {} {received}; then ", package.first_file, package.first_by)
        }
        "file" => format!("{}, imported elsewhere {received}; then ", package.first_file),
        "message" => format!("a message of the node, received elsewhere {received}; then "),
        "hand" => format!("a hand that typed it elsewhere, {received}; then "),
        "demo" => format!("made up for the demo, as if received {received}; then "),
        _ => String::new(),
    };
    let says = format!("{first}the package {}, brought by {} {}", package.name, package.by, at(&package.received));
    let link = package.study.map(|s| (format!("/studies/{s}/packages/{}", package.package), "the package"));
    Step { name: "it came by", says, link }
}

fn budget_words(b: &Budget, decimals: usize) -> String {
    let least = 0.5 * 10_f64.powi(-i32::try_from(decimals).unwrap_or(3) - 1);
    let part =
        |v: f64| if v < least { format!("under {}", fixed(least * 2.0, decimals + 1)) } else { fixed(v, decimals + 1) };
    let resolution =
        b.resolution.map_or_else(|| "its step is not known".to_owned(), |r| format!("{} its step", part(r)));
    format!(
        "± {} (95\u{a0}%): {} the scatter of one tin, {} the curve, {resolution}",
        part(b.all),
        part(b.tin),
        part(b.curve)
    )
}
