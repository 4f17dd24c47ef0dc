//! Who is in a study, and the links that let somebody in.

use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::moment;
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, say, see_other};
use crate::state::{State, secrets, wall_clock};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use ebrel_core::roles::Role;
use ebrel_core::units::UnixSeconds;
use ebrel_store::members::Invitation;
use ebrel_store::studies::Study;
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/studies/{id}/people", Least::Member(Role::Owner), show);
    routes.post("/studies/{id}/people", Least::Member(Role::Owner), change);
}

/// A link lets somebody in for this long, seconds.
const HOLDS_S: i64 = 7 * 86_400;

struct Person {
    account: i64,
    name: String,
    role: Role,
    oneself: bool,
}

struct Open {
    key: String,
    role: Role,
    by: String,
    until: String,
}

#[derive(Template)]
#[template(path = "rooms/plan/people.html")]
struct PeoplePage {
    shell: Shell,
    id: i64,
    demo: bool,
    people: Vec<Person>,
    open: Vec<Open>,
    /// The link that was just made: shown once, since only its hash is kept.
    link: Option<(String, Role)>,
    roles: &'static [Role],
}

async fn show(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let study = state.store.study(*id).await?;
    people(&state, &actor, &study, None).await
}

async fn people(
    state: &State,
    actor: &Actor,
    study: &Study,
    link: Option<(String, Role)>,
) -> Result<HttpResponse, Problem> {
    let shell = Shell::within(state, actor, "People", Room::Plan, study, None).await?;
    let members = state.store.members(study.id).await?.into_iter();
    let person = |m: ebrel_store::members::Member| Person {
        oneself: actor.account() == Some(m.account),
        account: m.account,
        name: m.name,
        role: m.role,
    };
    let until = |at: UnixSeconds| moment(at, study.utc_offset_minutes);
    let open = state.store.invitations(study.id, wall_clock()).await?.into_iter();
    let demo = shell.demo;
    page(&PeoplePage {
        shell,
        id: study.id,
        demo,
        people: members.map(person).collect(),
        open: open.map(|i| Open { key: i.key_hash, role: i.role, by: i.by, until: until(i.ends_at) }).collect(),
        link,
        roles: Role::ALL,
    })
}

/// What the owner wants of the list.
enum Change {
    /// Make a link for somebody.
    Invite { role: Role },
    /// Give somebody another role.
    Role { account: i64, role: Role },
    /// Take somebody out of the study.
    Remove { account: i64 },
    /// Take a link back.
    Withdraw { key: String },
}

async fn change(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    request: HttpRequest,
    form: CheckedForm<ChangeForm>,
) -> Result<HttpResponse, Problem> {
    let study = state.store.study(*id).await?;
    if actor.account().is_none() {
        return Err(Problem::Refused(
            "The demo has no accounts: start Ebrel with your own data to invite somebody.".into(),
        ));
    }
    match form.0.read()? {
        Change::Invite { role } => {
            let (secret, now) = (secrets::secret(), wall_clock());
            let invitation = Invitation {
                key_hash: secrets::hash_of(&secret),
                study: study.id,
                role,
                by: actor.name().to_owned(),
                ends_at: UnixSeconds(now.0 + HOLDS_S),
                used_by: None,
            };
            state.store.invite(&invitation, now).await?;
            let link = format!("{}/join/{secret}", origin(&request));
            return people(&state, &actor, &study, Some((link, role))).await;
        }
        Change::Role { account, role } => {
            state.store.give_role(study.id, account, Some(role)).await?;
            say(&actor, "The role is changed. It holds from the next click on.")?;
        }
        Change::Remove { account } => {
            state.store.give_role(study.id, account, None).await?;
            say(&actor, "They are no longer in this study. What they did stays, with their name.")?;
        }
        Change::Withdraw { key } => {
            state.store.withdraw_invitation(study.id, &key).await?;
            say(&actor, "The link is taken back.")?;
        }
    }
    Ok(see_other(&format!("/studies/{}/people", study.id)))
}

/// How this page was reached: scheme and host.
fn origin(request: &HttpRequest) -> String {
    let info = request.connection_info();
    format!("{}://{}", info.scheme(), info.host())
}

/// The form as it comes: one button, and the fields beside it.
#[derive(Deserialize)]
struct ChangeForm {
    #[serde(rename = "do", default)]
    what: String,
    role: Option<Role>,
    account: Option<i64>,
    key: Option<String>,
}

impl ChangeForm {
    fn read(self) -> Result<Change, Problem> {
        let missing = || Problem::Refused("The form was incomplete: reload the page and send it again.".into());
        match (self.what.as_str(), self.role, self.account, self.key) {
            ("invite", Some(role), ..) => Ok(Change::Invite { role }),
            ("role", Some(role), Some(account), _) => Ok(Change::Role { account, role }),
            ("remove", _, Some(account), _) => Ok(Change::Remove { account }),
            ("withdraw", .., Some(key)) => Ok(Change::Withdraw { key }),
            _ => Err(missing()),
        }
    }
}
