//! Where: the station's purpose and place, candidates with their scores, known biases.

use super::super::context::{Head, OnPage};
use crate::components::fields::FieldMessage;
use crate::components::fields::TextField;
use crate::shell::Shell;
use askama::Template;
use ebrel_app::planning::StationPlan;
use ebrel_core::planning::{CLEARANCES, CRITERIA, SERVICES, Typed};

struct Score {
    path: String,
    /// The scores to choose from, and whether each is taken.
    scores: Vec<(&'static str, bool)>,
    note: TextField,
    asks: &'static str,
}

struct Clearance {
    path: String,
    asks: &'static str,
    on: bool,
}

struct Candidate {
    name: TextField,
    scores: Vec<Score>,
    clearances: Vec<Clearance>,
    verdict: String,
    stopped: bool,
    chosen: bool,
    best: bool,
}

struct Bias {
    what: TextField,
    mitigation: TextField,
}

#[derive(Template)]
#[template(path = "rooms/plan/station/steps/site.html")]
pub struct SitePage {
    shell: Shell,
    head: Head,
    answer: String,
    purpose: TextField,
    place: Vec<(&'static str, &'static str, TextField)>,
    candidates: Vec<Candidate>,
    chosen_says: Vec<FieldMessage>,
    because: TextField,
    biases: Vec<Bias>,
    services: &'static str,
}

pub fn page(shell: Shell, head: Head, context: &StationPlan) -> SitePage {
    let draft = &context.draft;
    let chosen = draft.chosen.parse::<usize>().ok();
    let candidates = draft.candidates.iter().enumerate().map(|(i, c)| {
        let judged = &context.found.candidates[i];
        let empty = Typed::default();
        let scores = CRITERIA.iter().map(|k| Score {
            path: format!("candidates.{i}.scores.{}", k.code),
            scores: ["0", "1", "2", "3"].map(|n| (n, c.scores.get(k.code).is_some_and(|t| &**t == n))).to_vec(),
            note: context.text(format!("candidates.{i}.notes.{}", k.code), c.notes.get(k.code).unwrap_or(&empty)),
            asks: k.asks,
        });
        let clearances = CLEARANCES.iter().map(|k| Clearance {
            path: format!("candidates.{i}.cleared.{}", k.code),
            asks: k.asks,
            on: c.cleared.get(k.code).is_some_and(Typed::is_yes),
        });
        let score = judged.percent.map_or_else(
            || "not scored yet".to_owned(),
            |p| format!("{p:.0} % of the best possible, {} of {} scored", judged.scored, CRITERIA.len()),
        );
        let open = if judged.stops.is_empty() {
            String::new()
        } else {
            format!("Open: {}. ", judged.stops.join("; ").to_lowercase())
        };
        Candidate {
            name: context.text(format!("candidates.{i}.name"), &c.name),
            scores: scores.collect(),
            clearances: clearances.collect(),
            verdict: format!("{open}{score}"),
            stopped: !judged.stops.is_empty(),
            chosen: chosen == Some(i),
            best: context.found.best_candidate == Some(i),
        }
    });
    let biases = draft.biases.iter().enumerate().map(|(i, b)| Bias {
        what: context.text(format!("biases.{i}.what"), &b.what),
        mitigation: context.text(format!("biases.{i}.mitigation"), &b.mitigation),
    });
    let answer = match chosen.and_then(|i| context.found.candidates.get(i)) {
        Some(j) if j.stops.is_empty() => format!("{} is chosen.", j.name),
        Some(j) => format!("{} is chosen, but cannot be dug yet.", j.name),
        None => "No place is chosen yet.".into(),
    };
    SitePage {
        answer,
        purpose: context.text("purpose", &draft.purpose),
        place: vec![
            ("Latitude", "° north", context.text("latitude", &draft.latitude)),
            ("Longitude", "° east", context.text("longitude", &draft.longitude)),
            ("Elevation", "m", context.text("elevation_m", &draft.elevation_m)),
            ("Treatment", "", context.text("treatment", &draft.treatment)),
            ("What grows there", "", context.text("cover", &draft.cover)),
        ],
        candidates: candidates.collect(),
        chosen_says: context.says("chosen"),
        because: context.text("chosen_because", &draft.chosen_because),
        biases: biases.collect(),
        services: SERVICES,
        shell,
        head,
    }
}
