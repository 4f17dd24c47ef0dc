//! What every page of a station's plan begins with, and its fields.

use crate::components::fields::{Answer, Choice, FieldMessage, FigureField, TextField};
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::{Room, Shell};
use crate::state::{State, wall_clock};
use ebrel_app::planning::{PlanError, StationPlan};
use ebrel_core::planning::{Draft, Figure, Remark, Severity, Step, Typed};

/// The layout's part of a page of the plan.
pub async fn shell(state: &State, actor: &Actor, plan: &StationPlan) -> Result<Shell, Problem> {
    let title = format!("Plan of {}", plan.station.name);
    let shell = Shell::within(state, actor, &title, Room::Plan, &plan.study, Some(&plan.station)).await?;
    Ok(shell.of_revision(plan.revision))
}

/// Keeps a changed draft in the name of who is signed in.
pub async fn keep(
    state: &State,
    actor: &Actor,
    plan: &mut StationPlan,
    draft: Draft,
    changed: &str,
) -> Result<(), PlanError> {
    let by = actor.name().to_owned();
    plan.keep(&state.store, draft, (changed, &by), wall_clock()).await
}

/// A plan as its pages show it.
pub trait OnPage {
    /// The head of a step's page.
    fn head(&self, step: Option<Step>) -> Head;
    /// What is said at a field of the draft.
    fn says(&self, at: &str) -> Vec<FieldMessage>;
    /// The field of a number.
    fn figure(&self, figure: Figure) -> FigureField;
    /// A field of words.
    fn text(&self, path: impl Into<String>, typed: &Typed) -> TextField;
    /// A choice of the draft among answers of (code, words); the first stands where nothing was chosen.
    fn choice(&self, question: &str, name: &'static str, answers: &[(&str, &str)]) -> Choice;

    /// The fields of several numbers.
    fn figures(&self, figures: &[Figure]) -> Vec<FigureField> {
        figures.iter().map(|f| self.figure(*f)).collect()
    }
}

impl OnPage for StationPlan {
    fn head(&self, step: Option<Step>) -> Head {
        let count = |s: Step, severity: Severity| {
            self.found.remarks.iter().filter(|r| r.step == s && r.severity == severity).count()
        };
        let steps = Step::ALL.iter().copied().map(|s| StepLink {
            name: s.name(),
            address: format!("/stations/{}/plan/{}", self.station.id, s.code()),
            here: step == Some(s),
            stops: count(s, Severity::Stop),
            weak: count(s, Severity::Weak),
        });
        let after = step.and_then(|s| Step::ALL.iter().copied().skip_while(|t| *t != s).nth(1));
        let next = match after {
            Some(next) => (format!("/stations/{}/plan/{}", self.station.id, next.code()), next.name().to_owned()),
            None => (format!("/stations/{}/plan/sheet", self.station.id), "the field sheet".to_owned()),
        };
        let whole = |r: &&Remark| r.at.is_empty() && step == Some(r.step);
        Head {
            id: self.station.id,
            station: self.station.name.clone(),
            bias: self.station.known_bias.clone(),
            sentence: self.found.sentence(),
            steps: steps.collect(),
            stops: self.found.stops(None).count(),
            says: self.found.remarks.iter().filter(whole).map(FieldMessage::of).collect(),
            next,
            version: self.version,
        }
    }

    fn says(&self, at: &str) -> Vec<FieldMessage> {
        self.found.remarks.iter().filter(|r| r.at == at).map(FieldMessage::of).collect()
    }

    fn figure(&self, figure: Figure) -> FigureField {
        let spec = figure.spec();
        let path = format!("figures.{}", spec.code);
        FigureField {
            text: self.draft.figure(spec.code).to_owned(),
            name: spec.range.name,
            unit: spec.range.unit,
            default: spec.default.to_string().replace('-', "−"),
            source: spec.source,
            says: self.says(&path),
            path,
        }
    }

    fn text(&self, path: impl Into<String>, typed: &Typed) -> TextField {
        let path = path.into();
        let says = self.says(&path);
        TextField::of(path, typed, says)
    }

    fn choice(&self, question: &str, name: &'static str, answers: &[(&str, &str)]) -> Choice {
        let path = format!("choices.{question}");
        let taken = self.draft.choice(question);
        let known = answers.iter().any(|(code, _)| *code == taken);
        let answers = answers.iter().enumerate().map(|(i, (code, words))| Answer {
            code: (*code).to_owned(),
            words: (*words).to_owned(),
            taken: if known { *code == taken } else { i == 0 },
        });
        Choice { answers: answers.collect(), name, says: self.says(&path), path }
    }
}

/// A link to a step, with what is wrong there.
pub struct StepLink {
    pub name: &'static str,
    /// Where it leads.
    pub address: String,
    /// Whether the page is this step.
    pub here: bool,
    /// What stops it.
    pub stops: usize,
    /// What is weak.
    pub weak: usize,
}

/// What stands above every step.
pub struct Head {
    /// Number of the station.
    pub id: i64,
    pub station: String,
    /// Its known biases.
    pub bias: String,
    /// The plan in a sentence.
    pub sentence: String,
    pub steps: Vec<StepLink>,
    /// How many stops there are in all.
    pub stops: usize,
    /// What is said of the whole step.
    pub says: Vec<FieldMessage>,
    /// Address and name of what comes next.
    pub next: (String, String),
    /// The newest version.
    pub version: i64,
}
