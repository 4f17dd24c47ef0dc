//! A practice run at the stand-ins: container, handheld reader, balance, oven; at the end the truth.

use super::practice_of;
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{fixed, grouped};
use crate::shell::guard::{CheckedForm, NoFields};
use crate::shell::routes::{Least, Routes};
use crate::shell::{say, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use ebrel_core::bench::{Resolved, RunDraft, SampleRow};
use ebrel_core::roles::Role;
use ebrel_simulator::practice::{CONTAINER_CM3, CORER_CM3, Ending, POINTS, Practice, Step, Work};
use ebrel_store::drafts::DraftKind;
use ebrel_store::runs::Run;
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.post("/studies/{id}/practice", Least::Member(Role::Researcher), begin);
    routes.post("/bench/{id}/stand-in", Least::Member(Role::Researcher), take);
}

/// Something that can be done at the bench.
pub struct Button {
    pub code: &'static str,
    pub words: String,
    /// Whether it comes next.
    pub next: bool,
}

/// The strip of the stand-ins on a run's page.
pub struct BenchPart {
    /// Where one stands.
    pub says: String,
    /// What can be done.
    pub buttons: Vec<Button>,
    /// The truth, once it is shown.
    pub truth: Vec<String>,
}

/// Steps by their code.
const STEPS: [(&str, Step, &str); 9] = [
    ("pack", Step::Pack, "Pack the container"),
    ("read", Step::Read, "Read the probe three times"),
    ("press", Step::Press, "Press the soil to the probe, read again"),
    ("core", Step::Core, "Take a core into a tin, weigh it"),
    ("wipe", Step::Wipe, "Wipe the lid, weigh again"),
    ("water", Step::Water(200), "Tip out, add 200 mL, mix"),
    ("oven", Step::Oven(24), "All tins 24 h in the oven, weigh"),
    ("longer", Step::Oven(4), "4 h more, weigh again"),
    ("reveal", Step::Reveal, "Show the truth"),
];

impl BenchPart {
    /// The strip for a practice and its samples.
    pub fn of(practice: &Practice, draft: &RunDraft, resolved: &Resolved) -> Self {
        let work = practice.work();
        let next = next(practice, &work);
        let point = work.points.len();
        let offered = STEPS.iter().filter(|(code, ..)| match *code {
            "longer" => work.oven_hours > 0,
            "oven" => work.oven_hours == 0,
            "reveal" => work.oven_hours > 0 && !work.revealed,
            "pack" | "read" | "press" | "core" | "wipe" | "water" => work.oven_hours == 0,
            _ => true,
        });
        let buttons = offered.map(|(code, _, words)| Button {
            code,
            words: if *code == "pack" && next != "pack" { "Pack it again".to_owned() } else { (*words).to_owned() },
            next: *code == next,
        });
        let says = if work.revealed {
            "The truth is shown below.".to_owned()
        } else if work.oven_hours > 0 {
            format!(
                "The tins were {} h in the oven. Look at what is said of each sample, mend or leave out what is wrong with a reason, and then see the truth.",
                work.oven_hours
            )
        } else {
            format!(
                "Point {point} of {POINTS}. One packing, one lid, one placing of the probe and one tin in the oven will go wrong: each shows a sign."
            )
        };
        Self {
            says,
            buttons: buttons.collect(),
            truth: if work.revealed { truth(&work, draft, resolved) } else { Vec::new() },
        }
    }
}

/// The step that comes next in the order of the work.
fn next(practice: &Practice, work: &Work) -> &'static str {
    let Some(point) = work.points.last() else { return "pack" };
    if work.revealed {
        ""
    } else if work.oven_hours > 0 {
        if point.dry_g.len() > 1 { "reveal" } else { "longer" }
    } else if point.tin.is_some() {
        if work.points.len() < POINTS { "water" } else { "oven" }
    } else if !point.readings_mv.is_empty() {
        "core"
    } else if practice.steps.last().is_some_and(|s| *s == Step::Pack) {
        "read"
    } else {
        "pack"
    }
}

/// The truth in sentences: what became of each slip, and how far the curve is from the true one.
fn truth(work: &Work, draft: &RunDraft, resolved: &Resolved) -> Vec<String> {
    let left_out: Vec<bool> = draft.rows.iter().map(|r| r.out).collect();
    let mut says = Vec::new();
    let found = &resolved.recommendation;
    let curve = found.form.and_then(|f| found.candidate(f));
    if let (Some(curve), Some(low), Some(high)) =
        (curve, resolved.raw.iter().copied().reduce(f64::min), resolved.raw.iter().copied().reduce(f64::max))
    {
        let miss = work.miss((low, high), |mv| curve.at(mv).map_or(f64::NAN, |c| c.0));
        says.push(format!(
            "Your curve lies {} m³/m³ from the true one (root mean square, {} to {} mV); it claims ±{} (95 %).",
            fixed(miss, 4),
            fixed(low, 0),
            fixed(high, 0),
            curve.half_width().map(|h| fixed(h, 4)).unwrap_or_default()
        ));
    }
    says.extend(work.fates(&left_out).iter().map(|f| {
        let ending = match f.ending {
            Ending::Mended => "You mended it",
            Ending::LeftOut => "You left it out",
            Ending::InTheFit => "It is still in your fit",
        };
        format!("Sample {}: {}. {ending}.", f.point + 1, f.slip.words())
    }));
    says
}

/// Begins a practice run: its soil, its probe and its slips are drawn from the run's number.
async fn begin(
    state: web::Data<State>,
    id: web::Path<i64>,
    _form: CheckedForm<NoFields>,
) -> Result<HttpResponse, Problem> {
    let seed = state.store.runs(*id).await?.first().map_or(1, |r| r.id as u64 + 1);
    let run = begin_practice(*id, seed)?;
    let number = state.store.add_run(&run).await?;
    Ok(see_other(&format!("/bench/{number}")))
}

/// A fresh practice run of a study.
fn begin_practice(study_id: i64, seed: u64) -> Result<Run, Problem> {
    let practice = Practice::new(seed);
    let work = practice.work();
    let cores: Vec<String> = work.field_cores.iter().map(|(tare, dry)| format!("{tare:.2}; {dry:.2}; 100")).collect();
    let draft = RunDraft {
        soil: "practice soil".into(),
        cores: cores.join("\n"),
        w_now: work.w_start.to_string(),
        water: "200".into(),
        container: (CONTAINER_CM3 / 1000.0).to_string(),
        logger: "handheld reader, stand-in".into(),
        excitation: "2.5".into(),
        ..RunDraft::default()
    };
    let json = |e: serde_json::Error| Problem::Internal(e.to_string());
    Ok(Run {
        id: 0,
        study_id,
        title: "Practice at the stand-ins".into(),
        probe_id: None,
        draft: serde_json::to_string(&draft).map_err(json)?,
        practice: Some(serde_json::to_string(&practice).map_err(json)?),
    })
}

#[derive(Deserialize)]
struct Taken {
    #[serde(default, rename = "do")]
    code: String,
}

/// Takes a step at the stand-ins and writes what they show into the samples.
async fn take(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Taken>,
) -> Result<HttpResponse, Problem> {
    let revision = state.store.revision(DraftKind::Run, *id).await?;
    let mut run = state.store.run(*id).await?;
    let mut practice = practice_of(&run)?.ok_or(Problem::NotFound("practice run"))?;
    let step = STEPS.iter().find(|s| s.0 == form.0.code).map(|s| s.1);
    let step = step.ok_or_else(|| Problem::Refused("Choose what to do at the bench.".into()))?;
    match practice.take(step) {
        Err(first) => say(&actor, first)?,
        Ok(work) => {
            let internal = |e: serde_json::Error| Problem::Internal(e.to_string());
            let mut draft: RunDraft = serde_json::from_str(&run.draft).map_err(internal)?;
            write(&work, step, &mut draft);
            run.draft = serde_json::to_string(&draft).map_err(internal)?;
            run.practice = Some(serde_json::to_string(&practice).map_err(internal)?);
            state.store.keep_run(revision, &run).await?;
            say(&actor, &done(&work, step))?;
        }
    }
    Ok(see_other(&format!("/bench/{}", *id)))
}

/// What a step at the stand-ins shows goes into the samples as one would type it; what was typed elsewhere stays.
fn write(work: &Work, step: Step, draft: &mut RunDraft) {
    let at = work.points.len() - 1;
    while draft.rows.len() < work.points.len() {
        draft.rows.push(SampleRow::default());
    }
    let point = &work.points[at];
    let two = |v: f64| format!("{v:.2}");
    let row = &mut draft.rows[at];
    match step {
        Step::Pack => row.raw.clear(),
        Step::Read | Step::Press => {
            row.raw = point.readings_mv.iter().map(|v| format!("{v:.1}")).collect::<Vec<_>>().join("; ");
        }
        Step::Core | Step::Wipe => {
            if let Some((tare, wet)) = point.tin {
                (row.tin, row.tare, row.wet) = ((at + 1).to_string(), two(tare), two(wet));
                row.volume = CORER_CM3.to_string();
            }
        }
        Step::Oven(_) => {
            for (row, point) in draft.rows.iter_mut().zip(&work.points).filter(|(_, p)| !p.dry_g.is_empty()) {
                row.dry = point.dry_g.iter().map(|g| two(*g)).collect::<Vec<_>>().join("; ");
            }
            draft.dry_hours = work.oven_hours.to_string();
        }
        Step::Water(_) | Step::Reveal => {}
    }
}

/// What was done, in words.
fn done(work: &Work, step: Step) -> String {
    let point = work.points.len();
    let shown = work.points.last().cloned().unwrap_or_default();
    match step {
        Step::Pack => format!(
            "Packed for point {point}, to {} g/cm³ as well as the hand can. Read the probe.",
            fixed(work.field_density, 2)
        ),
        Step::Read | Step::Press => {
            let readings: Vec<String> = shown.readings_mv.iter().map(|v| fixed(*v, 1)).collect();
            format!("The handheld shows {} mV.", readings.join(", "))
        }
        Step::Core | Step::Wipe => {
            let (tare, wet) = shown.tin.unwrap_or_default();
            format!("Tin {point}: {} g empty, {} g with the moist core.", fixed(tare, 2), fixed(wet, 2))
        }
        Step::Water(ml) => format!("{ml} mL are mixed in. Pack the container for point {point}."),
        Step::Oven(hours) => {
            format!("{hours} h at 105 °C, {} h in all; cooled closed and weighed.", grouped(work.oven_hours as usize))
        }
        Step::Reveal => "The truth is drawn beside your curve.".to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ebrel_core::bench::resolve;

    fn taken(steps: &[Step]) -> (Practice, RunDraft) {
        let mut practice = Practice::new(2);
        let mut draft = RunDraft {
            rows: vec![SampleRow { why: "typed before".into(), ..SampleRow::default() }],
            ..RunDraft::default()
        };
        for step in steps {
            let work = practice.take(*step).unwrap();
            write(&work, *step, &mut draft);
        }
        (practice, draft)
    }

    #[test]
    fn what_the_stand_ins_show_is_written_as_one_would_type_it_and_the_rest_stays() {
        let (_, draft) = taken(&[Step::Pack, Step::Read, Step::Core, Step::Water(200), Step::Pack]);
        let row = &draft.rows[0];
        assert_eq!((row.raw.split("; ").count(), row.tin.as_str(), row.volume.as_str()), (3, "1", "50"));
        assert!(row.dry.is_empty() && row.why == "typed before");
        assert_eq!(draft.rows.len(), 2, "the next point has its line");
        let resolved = resolve(&draft);
        assert!(resolved.figures[0].waits, "a tin that is not dried waits");
        let (_, dried) = taken(&[Step::Pack, Step::Read, Step::Core, Step::Oven(24), Step::Oven(4)]);
        assert_eq!(dried.rows[0].dry.split("; ").count(), 2, "each weighing stands");
        assert_eq!(dried.dry_hours, "28");
    }

    #[test]
    fn the_step_that_comes_next_follows_the_order_of_the_work() {
        let next_after = |steps: &[Step]| {
            let (practice, _) = taken(steps);
            next(&practice, &practice.work())
        };
        assert_eq!(next_after(&[]), "pack");
        assert_eq!(next_after(&[Step::Pack]), "read");
        assert_eq!(next_after(&[Step::Pack, Step::Read]), "core");
        assert_eq!(next_after(&[Step::Pack, Step::Read, Step::Core]), "water");
        assert_eq!(next_after(&[Step::Pack, Step::Read, Step::Core, Step::Water(200)]), "pack");
        assert_eq!(next_after(&[Step::Pack, Step::Read, Step::Core, Step::Oven(24)]), "longer");
        assert_eq!(next_after(&[Step::Pack, Step::Read, Step::Core, Step::Oven(24), Step::Oven(4)]), "reveal");
    }

    #[test]
    fn buttons_are_those_of_the_moment() {
        let codes = |steps: &[Step]| {
            let (practice, draft) = taken(steps);
            let part = BenchPart::of(&practice, &draft, &resolve(&draft));
            assert!(part.buttons.iter().filter(|b| b.next).count() <= 1);
            part.buttons.iter().map(|b| b.code).collect::<Vec<_>>()
        };
        assert_eq!(codes(&[]), ["pack", "read", "press", "core", "wipe", "water", "oven"]);
        let dried = [Step::Pack, Step::Read, Step::Core, Step::Oven(24)];
        assert_eq!(codes(&dried), ["longer", "reveal"]);
        let revealed = [dried.as_slice(), &[Step::Reveal]].concat();
        assert_eq!(codes(&revealed), ["longer"], "after the truth one may still dry on");
    }
}
