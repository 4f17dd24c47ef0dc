//! Practice: made-up records with hidden faults, for people who learn to see. Kept for each person, over all studies.

mod round;

use crate::components::fields::Answer;
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{fixed, moment};
use crate::shell::forms::Field;
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Shell, page, see_other};
use crate::state::{State, wall_clock};
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::training::Score;
use ebrel_simulator::years::{Exercise, Kind, Level};
use ebrel_store::training::Round;
use serde::Deserialize;
use std::collections::BTreeMap;

/// Routes of practice.
pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/training", Least::SignedIn, show);
    routes.post("/training", Least::SignedIn, begin);
    round::routes(routes);
}

/// Seeds are short enough to be read out to a class.
const MOST_SEED: u32 = 999_999;

/// A kind, and how it went with it.
struct Seen {
    kind: String,
    found: usize,
    named: usize,
    of: usize,
    by_tests: usize,
}

struct Row {
    id: i64,
    when: String,
    what: String,
    seed: u32,
    points: String,
}

#[derive(Template)]
#[template(path = "rooms/training/training.html")]
struct TrainingPage {
    shell: Shell,
    levels: Vec<Answer>,
    kinds: Vec<Answer>,
    seed: Field,
    seen: Vec<Seen>,
    rounds: Vec<Row>,
    more: usize,
}

/// What is to be practised, as it was typed or as a link has it.
#[derive(Deserialize, Default)]
struct Typed {
    #[serde(default)]
    level: String,
    #[serde(default)]
    kind: String,
    #[serde(default)]
    seed: String,
}

async fn show(state: web::Data<State>, actor: Actor, typed: web::Query<Typed>) -> Result<HttpResponse, Problem> {
    shown(&state, &actor, &typed, None).await
}

/// Rounds of the list.
const LISTED: usize = 30;

async fn shown(state: &State, actor: &Actor, typed: &Typed, fault: Option<String>) -> Result<HttpResponse, Problem> {
    let all = state.store.rounds(actor.account()).await?;
    let kinds = Exercise::kinds().into_iter().map(|k| Answer::of(k.words(), k.words(), &typed.kind));
    let any = Answer::of("", "any kind, each another one", &typed.kind);
    page(&TrainingPage {
        shell: Shell::bare(state, actor, "Practice")?,
        levels: Level::ALL.map(|l| Answer::of(l.code(), l.words(), &typed.level)).into(),
        kinds: std::iter::once(any).chain(kinds).collect(),
        seed: Field { text: typed.seed.clone(), error: fault },
        seen: seen(&all),
        rounds: all.iter().take(LISTED).map(row).collect(),
        more: all.len().saturating_sub(LISTED),
    })
}

/// The score of a round that has ended.
fn score_of(round: &Round) -> Option<Score> {
    round.score.as_ref().and_then(|json| serde_json::from_str(json).ok())
}

fn row(round: &Round) -> Row {
    let points = match score_of(round) {
        Some(s) => format!(
            "{} of {} points; Ebrel\u{2019}s tests {}",
            fixed(s.points() as f64, 0),
            s.most(),
            fixed(s.points_of_tests() as f64, 0)
        ),
        None => "goes on".to_owned(),
    };
    let kind = if round.kind.is_empty() { "any kind" } else { &round.kind };
    let what = format!("{}, {kind}", round.level);
    Row { id: round.id, when: moment(round.begun_at, 0), what, seed: round.seed, points }
}

/// By kind, what was found and named so far; what is missed most comes first.
fn seen(rounds: &[Round]) -> Vec<Seen> {
    let mut kinds: BTreeMap<String, Seen> = BTreeMap::new();
    for outcome in rounds.iter().filter_map(score_of).flat_map(|s| s.outcomes) {
        let kind = outcome.kind.clone();
        let new = || Seen { kind, found: 0, named: 0, of: 0, by_tests: 0 };
        let sum = kinds.entry(outcome.kind).or_insert_with(new);
        sum.of += 1;
        sum.found += usize::from(outcome.found);
        sum.named += usize::from(outcome.named);
        sum.by_tests += usize::from(outcome.by_tests);
    }
    let mut all: Vec<Seen> = kinds.into_values().collect();
    all.sort_by(|a, b| (a.found * b.of).cmp(&(b.found * a.of)).then_with(|| a.kind.cmp(&b.kind)));
    all
}

/// The exercise that was typed; an empty seed is any.
fn understood(typed: &Typed) -> Result<Exercise, String> {
    let text = typed.seed.trim();
    let seed = match text {
        "" => (rand_seed() % MOST_SEED) + 1,
        _ => text.parse().ok().filter(|n| *n <= MOST_SEED).ok_or_else(|| {
            format!(
                "“{text}” is no number of an exercise: give a whole number from 0 to {MOST_SEED}, or leave it empty."
            )
        })?,
    };
    let kind = match typed.kind.as_str() {
        "" => None,
        words => Some(
            Kind::from_words(words)
                .filter(|k| Exercise::kinds().contains(k))
                .ok_or_else(|| format!("“{words}” is not practised here: choose another kind."))?,
        ),
    };
    let level = Level::from_code(&typed.level).ok_or("Choose how hard it shall be.")?;
    Ok(Exercise { seed, level, kind })
}

fn rand_seed() -> u32 {
    let bytes = actix_web::cookie::Key::generate();
    bytes.master().iter().take(4).fold(0, |n, b| (n << 8) | u32::from(*b))
}

async fn begin(state: web::Data<State>, actor: Actor, form: CheckedForm<Typed>) -> Result<HttpResponse, Problem> {
    let exercise = match understood(&form.0) {
        Ok(exercise) => exercise,
        Err(says) => return shown(&state, &actor, &form.0, Some(says)).await,
    };
    let kind = exercise.kind.map_or("", Kind::words);
    let what = (exercise.seed, exercise.level.code(), kind);
    let id = state.store.begin_round(actor.account(), what, wall_clock()).await?;
    Ok(see_other(&format!("/training/{id}")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_exercise_is_read_as_it_was_typed() {
        let typed = |level: &str, kind: &str, seed: &str| {
            understood(&Typed { level: level.into(), kind: kind.into(), seed: seed.into() })
        };
        let of = |e: Exercise| (e.seed, e.level.code(), e.kind.map(Kind::words));
        assert_eq!(typed("hard", "ports exchanged", " 42 ").map(of), Ok((42, "hard", Some("ports exchanged"))));
        assert!(typed("easy", "", "").is_ok_and(|e| (1..=MOST_SEED).contains(&e.seed)));
        assert_eq!(typed("easy", "", "999999").map(|e| e.seed), Ok(MOST_SEED));
        for (level, kind, seed) in [
            ("easy", "", "1000000"),
            ("easy", "", "-1"),
            ("easy", "", "θ"),
            ("hardest", "", "1"),
            ("easy", "late", "1"),
        ] {
            assert!(typed(level, kind, seed).is_err(), "{level} {kind} {seed}");
        }
    }
}
