//! What all sheets of the bench share: begun, loaded, kept as typed, shown; and their numbers with a usual value.

use crate::components::fields::FieldMessage;
use crate::components::fields::TextField;
use crate::shell::actor::Actor;
use crate::shell::draft_form;
use crate::shell::drafts::{At, TRIES, combine, in_words, sent_revision};
use crate::shell::errors::Problem;
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, say, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use ebrel_core::planning::Typed;
use ebrel_core::roles::Role;
use ebrel_core::units::Range;
use ebrel_store::StoreError;
use ebrel_store::drafts::DraftKind;
use ebrel_store::register::BenchSheet;
use ebrel_store::studies::Study;
use serde::Serialize;
use serde::de::DeserializeOwned;

/// Fields of a sent form, by name.
pub type Sent = Vec<(String, String)>;

/// A sheet with all that its page and its buttons need.
pub struct SheetContext<'a> {
    pub state: &'a State,
    /// The visitor's actor.
    pub actor: &'a Actor,
    pub study: Study,
    pub sheet: BenchSheet,
    /// Its newest revision.
    pub revision: i64,
}

impl SheetContext<'_> {
    /// The layout around the sheet's page.
    pub async fn shell(&self, title: &str) -> Result<Shell, Problem> {
        let shell = Shell::within(self.state, self.actor, title, Room::Bench, &self.study, None).await?;
        Ok(shell.of_revision(self.revision))
    }
}

/// A kind of sheet, as it is typed.
pub trait Sheet: Serialize + DeserializeOwned + Clone + PartialEq + 'static {
    /// Its name in the database, and the part of its address: `/bench/KIND/NUMBER`.
    const KIND: &'static str;

    /// What it is called.
    fn title(&self) -> &Typed;

    /// A fresh one, as the form asks for it.
    async fn fresh(state: &State, study: &Study, form: &Sent) -> Result<Self, Problem>;

    async fn page(&self, around: &SheetContext<'_>) -> Result<HttpResponse, Problem>;

    /// Does what a button asks for; what changes in the draft is kept.
    async fn act(&mut self, around: &SheetContext<'_>, action: &str, by: &str) -> Result<(), Problem>;
}

/// Routes of a kind of sheet.
pub fn routes<D: Sheet>(routes: &mut Routes<'_>) {
    let (begun, one) = (format!("/studies/{{id}}/{}", D::KIND), format!("/bench/{}/{{id}}", D::KIND));
    routes.post(&begun, Least::Member(Role::Researcher), begin::<D>);
    routes.get(&one, Least::Member(Role::Guest), show::<D>);
    routes.post(&one, Least::Member(Role::Researcher), save::<D>);
}

fn json<D: Sheet>(draft: &D) -> Result<String, Problem> {
    serde_json::to_string(draft).map_err(|e| Problem::Internal(e.to_string()))
}

/// Begins a sheet in a study and leads to it.
async fn begin<D: Sheet>(
    state: web::Data<State>,
    id: web::Path<i64>,
    form: CheckedForm<Sent>,
) -> Result<HttpResponse, Problem> {
    let study = state.store.study(*id).await?;
    let draft = D::fresh(&state, &study, &form.0).await?;
    let (made_at, title) = (state.now(&study), draft.title().to_string());
    let sheet = BenchSheet { id: 0, study_id: *id, kind: D::KIND.into(), title, made_at, draft: json(&draft)? };
    let number = state.store.add_sheet(&sheet).await?;
    Ok(see_other(&format!("/bench/{}/{number}", D::KIND)))
}

/// A sheet of this kind with its draft.
async fn load<'a, D: Sheet>(state: &'a State, actor: &'a Actor, id: i64) -> Result<(SheetContext<'a>, D), Problem> {
    // The revision first: a save in between is then seen as one.
    let revision = state.store.revision(DraftKind::Sheet, id).await?;
    let sheet = state.store.sheet(id).await?;
    if sheet.kind != D::KIND {
        return Err(Problem::NotFound("sheet of this kind"));
    }
    let draft = serde_json::from_str(&sheet.draft).map_err(|e| Problem::Internal(e.to_string()))?;
    let study = state.store.study(sheet.study_id).await?;
    Ok((SheetContext { state, actor, study, sheet, revision }, draft))
}

async fn show<D: Sheet>(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let (around, draft) = load::<D>(&state, &actor, *id).await?;
    draft.page(&around).await
}

/// Takes a sent form into a sheet, keeps it, and does what its button asks for.
async fn save<D: Sheet>(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Sent>,
) -> Result<HttpResponse, Problem> {
    let by = actor.name().to_owned();
    let (mut around, mut draft) = take_in::<D>(&state, &actor, *id, &form.0).await?;
    let last = |name: &str| form.0.iter().rev().find(|f| f.0 == name).map_or("", |f| f.1.trim());
    if !last("do").is_empty() {
        let typed = draft.clone();
        draft.act(&around, last("do"), &by).await?;
        if draft != typed {
            around.revision = keep(&around, &draft).await?;
        }
    }
    if last("live") == "yes" {
        draft.page(&around).await
    } else {
        Ok(see_other(&format!("/bench/{}/{}", D::KIND, *id)))
    }
}

/// Puts a sent form into the newest draft of a sheet and keeps it, beside others who may be saving.
async fn take_in<'a, D: Sheet>(
    state: &'a State,
    actor: &'a Actor,
    id: i64,
    form: &Sent,
) -> Result<(SheetContext<'a>, D), Problem> {
    for _ in 0..TRIES {
        let (mut around, before) = load::<D>(state, actor, id).await?;
        let at = At { kind: DraftKind::Sheet, document: id, revision: around.revision };
        let type_in = |draft: &D| Ok(draft_form::apply(draft, form)?.0);
        let found = combine(&state.store, at, sent_revision(form), &before, type_in).await?;
        match keep(&around, &found.draft).await {
            Err(Problem::Store(StoreError::Stale)) => continue,
            kept => around.revision = kept?,
        }
        if let Some(sentence) = in_words(&found.conflicts) {
            say(actor, &sentence)?;
        }
        return Ok((around, found.draft));
    }
    Err(StoreError::Stale.into())
}

/// Keeps a sheet as it is typed so far, and returns its revision.
async fn keep<D: Sheet>(around: &SheetContext<'_>, draft: &D) -> Result<i64, Problem> {
    let sheet = &around.sheet;
    let title = if draft.title().is_blank() { sheet.title.clone() } else { draft.title().to_string() };
    let kept = around.state.store.keep_sheet(sheet.id, around.revision, &title, &json(draft)?).await;
    kept.map_err(Problem::Store)
}

/// A number of a sheet: its legal range, and the usual value that stands in where none was typed.
#[derive(Clone, Copy)]
pub struct NumberSpec {
    /// Its range, with name and unit.
    pub range: Range,
    /// The usual value.
    pub value: f64,
    /// Where that comes from.
    pub source: &'static str,
}

/// A number as it stands on a page.
pub struct NumberField {
    pub field: TextField,
    pub name: &'static str,
    pub unit: &'static str,
    /// The usual value.
    pub usual: f64,
    /// Where that comes from.
    pub source: &'static str,
}

impl NumberSpec {
    /// What was typed, or the usual value.
    pub fn of(&self, typed: &Typed) -> f64 {
        typed.number_in(self.range).unwrap_or(self.value)
    }

    /// The field, with what is wrong with it.
    pub fn field(&self, path: &str, typed: &Typed) -> NumberField {
        let says = typed.optional_in(self.range).err();
        let says = says.map(|says| FieldMessage {
            class: "stop",
            says: format!("{says}. Reckoned with {} meanwhile.", self.value),
        });
        NumberField {
            field: TextField::of(path, typed, says.into_iter().collect()),
            name: self.range.name,
            unit: self.range.unit,
            usual: self.value,
            source: self.source,
        }
    }
}

/// Reads a list, a thing a line; what cannot be read is said with its line, and the rest goes on.
pub fn read_lines<T>(text: &str, mut read: impl FnMut(&str) -> Result<T, String>) -> (Vec<T>, Vec<FieldMessage>) {
    let (mut all, mut wrong) = (Vec::new(), Vec::new());
    for (i, line) in text.lines().enumerate().filter(|(_, l)| !l.trim().is_empty()) {
        match read(line.trim()) {
            Ok(one) => all.push(one),
            Err(says) => wrong.push(FieldMessage { class: "stop", says: format!("line {}: {says}", i + 1) }),
        }
    }
    (all, wrong)
}

#[cfg(test)]
mod tests {
    use super::*;

    const HOURS: NumberSpec =
        NumberSpec { range: Range { name: "hours", unit: "h", min: 1.0, max: 10.0 }, value: 4.0, source: "overnight" };

    #[test]
    fn a_usual_value_stands_in_and_says_so_only_where_something_is_wrong() {
        assert_eq!((HOURS.of(&"7,5".into()), HOURS.of(&"".into()), HOURS.of(&"70".into())), (7.5, 4.0, 4.0));
        assert!(HOURS.field("hours", &"".into()).field.says.is_empty(), "the usual value is shown, not lamented");
        let wrong = HOURS.field("hours", &"70".into()).field;
        assert!(
            wrong.text == "70" && wrong.says[0].says.ends_with("Reckoned with 4 meanwhile."),
            "{}",
            wrong.says[0].says
        );
    }

    #[test]
    fn lines_that_cannot_be_read_are_named_and_the_rest_goes_on() {
        let (all, wrong) = read_lines(" 1\n\nx\n3 ", |l| l.parse::<u8>().map_err(|_| "no number".to_owned()));
        assert_eq!((all, wrong[0].says.as_str(), wrong.len()), (vec![1, 3], "line 3: no number", 1));
    }
}
