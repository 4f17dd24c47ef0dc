//! Blocks soaked and dried before they go into the ground: the schedule, and what each soaking read.

use crate::app::App;
use crate::rooms::bench::sheets::{self, SheetDraft};
use crate::rooms::plan::station::Said;
use crate::rooms::plan::station::fields::TextField;
use crate::shell::errors::Problem;
use crate::shell::figures::{field, fixed, moment, read_field};
use crate::shell::guard::{CheckedForm, NoFields};
use crate::shell::sign_in::acting;
use crate::shell::{Room, Shell, page, see_other};
use actix_session::Session;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_core::planning::Typed;
use ebrel_core::tension::{Readiness, Stage, readiness, schedule};
use ebrel_core::units::{Range, UnixSeconds, read_number};
use serde::{Deserialize, Serialize};

pub fn routes(config: &mut web::ServiceConfig) {
    config
        .route("/studies/{id}/soaking", web::post().to(begin))
        .service(web::resource("/bench/soaking/{id}").get(show).post(save));
}

/// A sheet as it was typed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct Draft {
    title: Typed,
    serials: Typed,
    start: Typed,
    cycles: Typed,
    soak_hours: Typed,
    dry_hours: Typed,
    log: Typed,
}

impl SheetDraft for Draft {
    const KIND: &'static str = "soaking";

    fn title(&self) -> &Typed {
        &self.title
    }
}

/// Path, range, usual value and its source.
const NUMBERS: [(&str, Range, f64, &str); 3] = [
    (
        "cycles",
        Range { name: "cycles", unit: "", min: 0.0, max: 10.0 },
        2.0,
        "two or three; then it is soaked once more",
    ),
    ("soak_hours", Range { name: "in water for", unit: "h", min: 0.5, max: 240.0 }, 12.0, "overnight"),
    ("dry_hours", Range { name: "in the air for", unit: "h", min: 0.5, max: 720.0 }, 24.0, "until it feels dry"),
];

impl Draft {
    fn typed(&self, path: &str) -> &Typed {
        match path {
            "cycles" => &self.cycles,
            "soak_hours" => &self.soak_hours,
            _ => &self.dry_hours,
        }
    }

    fn number(&self, which: usize) -> f64 {
        let (path, range, usual, _) = NUMBERS[which];
        self.typed(path).optional_in(range).ok().flatten().unwrap_or(usual)
    }
}

/// A line of the log: when, in which stage, what it read.
struct Logged {
    at: UnixSeconds,
    soaked: bool,
    reading: f64,
}

fn log(draft: &Draft, offset: i64) -> (Vec<Logged>, Vec<Said>) {
    let (mut all, mut wrong) = (Vec::new(), Vec::new());
    for (i, line) in draft.log.lines().enumerate().filter(|(_, l)| !l.trim().is_empty()) {
        let cells: Vec<&str> = line.split([';', '\t']).map(str::trim).collect();
        let read = match cells[..] {
            [at, stage, reading] => match (read_field(at, offset), stage.to_lowercase().as_str(), read_number(reading))
            {
                (None, ..) => Err("write the time like 2026-02-14 08:00".to_owned()),
                (Some(at), "wet", Ok(reading)) if reading > 0.0 => Ok(Logged { at, soaked: true, reading }),
                (Some(at), "dry", Ok(reading)) if reading > 0.0 => Ok(Logged { at, soaked: false, reading }),
                (_, "wet" | "dry", Ok(_)) => Err("a resistance or a mass is above zero".to_owned()),
                (_, "wet" | "dry", Err(says)) => Err(says),
                _ => Err("say wet or dry".to_owned()),
            },
            _ => Err("time; wet or dry; reading".to_owned()),
        };
        match read {
            Ok(logged) => all.push(logged),
            Err(says) => wrong.push(Said { class: "stop", says: format!("line {}: {says}", i + 1) }),
        }
    }
    all.sort_by_key(|l| l.at);
    (all, wrong)
}

struct StepRow {
    what: &'static str,
    from: String,
    to: String,
    reading: String,
    now: bool,
}

struct NumberField {
    field: TextField,
    name: &'static str,
    unit: &'static str,
    usual: f64,
    source: &'static str,
}

#[derive(Template)]
#[template(path = "rooms/bench/tension/soaking.html")]
struct SoakingPage {
    shell: Shell,
    study: i64,
    answer: String,
    title: TextField,
    serials: TextField,
    start: TextField,
    numbers: Vec<NumberField>,
    log: TextField,
    steps: Vec<StepRow>,
}

async fn begin(
    app: web::Data<App>,
    session: Session,
    id: web::Path<i64>,
    _form: CheckedForm<NoFields>,
) -> Result<HttpResponse, Problem> {
    acting(&app, &session)?;
    let study = app.store.study(*id).await?;
    let start = field(app.now(&study), study.utc_offset_minutes);
    let draft = Draft { title: "Soaking blocks".into(), start: start.as_str().into(), ..Draft::default() };
    sheets::begin(&app, *id, &draft).await
}

/// What to do now, first; then whether the blocks are ready.
fn answer(steps: &[ebrel_core::tension::Step], logged: &[Logged], now: UnixSeconds, offset: i64) -> String {
    let soaked: Vec<f64> = logged.iter().filter(|l| l.soaked).map(|l| l.reading).collect();
    let ready = match readiness(&soaked) {
        Readiness::Ready => {
            return "Ready: two soakings agree within 5 %. Install them wet, straight from the water.".to_owned();
        }
        Readiness::StillChanging(share) => {
            format!(" Two soakings still differ by {} %: soak and dry once more.", fixed(share * 100.0, 0))
        }
        Readiness::Unknown => " Read each block at the end of every soaking: two that agree make it ready.".to_owned(),
    };
    let here = steps.iter().find(|s| s.from <= now && now < s.to);
    match (here, steps.first(), steps.last()) {
        (Some(s), ..) => {
            let what = if s.stage == Stage::Soak { "In water" } else { "In the air" };
            format!("{what} until {}.{ready}", moment(s.to, offset))
        }
        (None, Some(first), _) if now < first.from => {
            format!("Into the water on {}.{ready}", moment(first.from, offset))
        }
        (None, _, Some(last)) => format!("The schedule ended on {}.{ready}", moment(last.to, offset)),
        _ => ready.trim().to_owned(),
    }
}

async fn show(app: web::Data<App>, session: Session, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let (sheet, draft) = sheets::load::<Draft>(&app, *id).await?;
    let study = app.store.study(sheet.study_id).await?;
    let (offset, now) = (study.utc_offset_minutes, app.now(&study));
    let start = read_field(&draft.start, offset);
    let start_says = start.is_none().then(|| Said {
        class: "stop",
        says: "Write when it begins like 2026-02-13 20:00. Reckoned from now meanwhile.".into(),
    });
    let steps = schedule(start.unwrap_or(now), draft.number(0).round() as usize, draft.number(1), draft.number(2));
    let (logged, wrong) = log(&draft, offset);
    let rows = steps.iter().map(|s| {
        let of = logged.iter().filter(|l| (s.from..=s.to).contains(&l.at) && l.soaked == (s.stage == Stage::Soak));
        StepRow {
            what: if s.stage == Stage::Soak { "in water" } else { "in the air" },
            from: moment(s.from, offset),
            to: moment(s.to, offset),
            reading: of.map(|l| l.reading.to_string()).collect::<Vec<_>>().join(", "),
            now: s.from <= now && now < s.to,
        }
    });
    let numbers = NUMBERS.iter().map(|(path, range, usual, source)| {
        let typed = draft.typed(path);
        let says = typed.optional_in(*range).err();
        let says = says.map(|says| Said { class: "stop", says: format!("{says}. Reckoned with {usual} meanwhile.") });
        let field = TextField::of(*path, typed, says.into_iter().collect());
        NumberField { field, name: range.name, unit: range.unit, usual: *usual, source }
    });
    let shell = Shell::within(&app, &session, &draft.title, Room::Bench, &study, None).await?;
    page(&SoakingPage {
        shell,
        study: study.id,
        answer: answer(&steps, &logged, now, offset),
        title: TextField::of("title", &draft.title, Vec::new()),
        serials: TextField::of("serials", &draft.serials, Vec::new()),
        start: TextField::of("start", &draft.start, start_says.into_iter().collect()),
        numbers: numbers.collect(),
        log: TextField::of("log", &draft.log, wrong),
        steps: rows.collect(),
    })
}

async fn save(
    app: web::Data<App>,
    session: Session,
    id: web::Path<i64>,
    form: CheckedForm<Vec<(String, String)>>,
) -> Result<HttpResponse, Problem> {
    let received = sheets::receive::<Draft>(&app, &session, *id, &form.0).await?;
    if received.live { show(app, session, id).await } else { Ok(see_other(&format!("/bench/soaking/{}", *id))) }
}
