//! What to take along, when, and what it costs.

use super::super::context::{Head, OnPage};
use crate::components::fields::{FigureField, TextField};
use crate::shell::Shell;
use crate::shell::figures::{fixed, when};
use askama::Template;
use ebrel_app::planning::StationPlan;
use ebrel_core::planning::{Figure, Shelf, Typed};

/// An item with its two ticks.
pub struct ItemRow {
    pub what: String,
    packed: (String, bool),
    site: (String, bool),
}

struct Day {
    from: String,
    what: String,
    why: String,
    again: String,
}

#[derive(Template)]
#[template(path = "rooms/plan/station/steps/kit.html")]
pub struct KitPage {
    shell: Shell,
    head: Head,
    answer: String,
    shelves: Vec<(&'static str, Vec<ItemRow>)>,
    dates: Vec<(&'static str, TextField)>,
    days: Vec<Day>,
    figures: Vec<FigureField>,
    costs: Vec<(String, String, String, String)>,
    price: String,
    currency: TextField,
}

pub fn page(shell: Shell, head: Head, context: &StationPlan) -> KitPage {
    let (found, draft) = (&context.found, &context.draft);
    let ticked = |key: &str| draft.ticks.get(key).is_some_and(Typed::is_yes);
    let shelves = Shelf::ALL.into_iter().map(|shelf| {
        let items = found.kit.iter().filter(|i| i.shelf == shelf).map(|i| {
            let (packed, site) = (format!("{} packed", i.code), format!("{} site", i.code));
            ItemRow {
                what: i.what.clone(),
                packed: (format!("ticks.{packed}"), ticked(&packed)),
                site: (format!("ticks.{site}"), ticked(&site)),
            }
        });
        (shelf.name(), items.collect())
    });
    let packed = found.kit.iter().filter(|i| ticked(&format!("{} packed", i.code))).count();
    let currency = if draft.currency.is_blank() { "" } else { &*draft.currency };
    let price = format!("{} {currency}", fixed(found.price(), 0));
    let first = found.calendar.iter().find(|e| e.code == "install").map(|e| when(e.from, 0, "%-d %b %Y"));
    let day = first.map_or_else(|| "no day of installation yet".to_owned(), |d| format!("to be installed on {d}"));
    let days = found.calendar.iter().map(|e| Day {
        from: when(e.from, 0, "%a %-d %b %Y"),
        what: e.what.clone(),
        why: e.why.clone(),
        again: e.repeats.map_or_else(String::new, |(days, times)| format!("every {days} days, {times} times")),
    });
    KitPage {
        answer: format!("{packed} of {} items packed; {day}; {price} in all.", found.kit.len()),
        shelves: shelves.collect(),
        dates: vec![
            ("Installation", context.text("install", &draft.install)),
            ("Machines come", context.text("machines_on", &draft.machines_on)),
            ("Retrieval", context.text("retrieve", &draft.retrieve)),
        ],
        days: days.collect(),
        figures: context.figures(&[
            Figure::VisitEvery,
            Figure::Recalibration,
            Figure::Spares,
            Figure::Labour,
            Figure::HourlyRate,
        ]),
        costs: found
            .costs
            .iter()
            .map(|c| (c.what.clone(), fixed(c.number, 0), fixed(c.each, 0), fixed(c.total(), 0)))
            .collect(),
        price,
        currency: context.text("currency", &draft.currency),
        shell,
        head,
    }
}
