//! The columns of a file on the page: what each is, with a small drawing of its whole run and of what the record has there.

use super::form::Typed;
use super::reading::take;
use crate::shell::forms::{Field, optional};
use ebrel_app::importing::{ColumnPlan, Mapping, Overlap, unit_fits};
use ebrel_core::register::check_serial;
use ebrel_core::units::{Quantity, format_plain, grouped, ranges, read_number};
use ebrel_formats::logger::{Column, Recipe};
use std::fmt::Write as _;

/// One column of the form.
pub struct ColumnForm {
    /// Its place among all columns.
    pub at: usize,
    /// Name in the file.
    pub name: String,
    /// Its table and logger, where there are several.
    pub within: String,
    /// Quantity code; empty: left out.
    pub quantity: &'static str,
    pub port: Field,
    pub unit: Field,
    pub factor: Field,
    pub plus: Field,
    pub counter: bool,
    pub depth: Field,
    pub serial: Field,
    pub missing: Field,
    /// What its run shows; `None`: the file could not be read.
    pub seen: Option<Seen>,
}

/// What a column's run shows.
pub struct Seen {
    pub valid: String,
    pub missing: String,
    /// It holds words and no number.
    pub words: bool,
    /// Cells that are neither.
    pub unread: String,
    pub noted: String,
    pub least: String,
    pub greatest: String,
    pub step: String,
    /// Least and greatest as they would be stored, where that is something else.
    pub stored: String,
    /// The outline of its run.
    pub drawing: String,
    /// The outline of the record that is there already.
    pub there: String,
    /// How much of it the record has, and whether it agrees.
    pub overlap: String,
    /// The overlap disagrees.
    pub apart: bool,
}

impl ColumnForm {
    /// Whether this quantity is chosen.
    pub fn is(&self, code: &str) -> bool {
        self.quantity == code
    }
}

/// Every quantity with its words, for the choice.
pub fn quantities() -> Vec<(&'static str, &'static str)> {
    Quantity::ALL.iter().map(|q| (q.code(), q.words())).collect()
}

/// Columns that the page shows with their fields; of more, the others keep what their names say.
pub const SHOWN: usize = 150;

/// The form of the columns.
pub fn column_forms(mapping: &Mapping, recipe: &Recipe) -> Vec<ColumnForm> {
    let columns = mapping.columns.iter().take(SHOWN).enumerate();
    columns.map(|(at, c)| column_form(at, c, recipe)).collect()
}

fn column_form(at: usize, c: &ColumnPlan, recipe: &Recipe) -> ColumnForm {
    let plain = |v: f64, usual: f64| if v == usual { String::new() } else { format_plain(v) };
    let within = [c.table.as_str(), c.logger.as_str()];
    let marks = recipe.missing_in.get(&c.column).map(|m| m.join(" ")).unwrap_or_default();
    ColumnForm {
        at,
        name: c.column.clone(),
        within: within.into_iter().filter(|p| !p.is_empty()).collect::<Vec<_>>().join(" › "),
        quantity: c.quantity.map_or("", Quantity::code),
        port: Field::of(&c.port),
        unit: Field::of(&c.unit),
        factor: Field::of(&plain(c.factor, 1.0)),
        plus: Field::of(&plain(c.plus, 0.0)),
        counter: c.counter,
        depth: Field::of(&c.depth_cm.map(|d| d.to_string()).unwrap_or_default()),
        serial: Field::of(&c.serial),
        missing: Field::of(&marks),
        seen: None,
    }
}

/// Reads the columns' fields: as typed with the errors, and what each is to become if all can be taken. Own marks of columns go into
/// the recipe.
pub fn read_columns(typed: &Typed, mapping: &Mapping, recipe: &mut Recipe) -> (Vec<ColumnForm>, Option<Mapping>) {
    let mut forms = column_forms(mapping, recipe);
    let mut plans = mapping.columns.clone();
    let mut good = true;
    for form in &mut forms {
        // A page of before may lack a column; what it does not send stays as it is.
        if !typed.contains_key(&format!("port-{}", form.at)) {
            continue;
        }
        match read_column(form, &plans[form.at], typed) {
            Some(plan) => plans[form.at] = plan,
            None => good = false,
        }
        let marks: Vec<String> = form.missing.text.split_whitespace().map(str::to_owned).collect();
        let column = mapping.columns[form.at].column.clone();
        if marks.is_empty() {
            recipe.missing_in.remove(&column);
        } else {
            recipe.missing_in.insert(column, marks);
        }
    }
    let node = typed.get("node").map_or(mapping.node.as_str(), |n| n.trim()).to_owned();
    (forms, good.then_some(Mapping { node, columns: plans }))
}

fn read_column(form: &mut ColumnForm, before: &ColumnPlan, typed: &Typed) -> Option<ColumnPlan> {
    let at = form.at;
    let field = |name: &str| Field::of(typed.get(&format!("{name}-{at}")).map_or("", String::as_str));
    let quantity = typed.get(&format!("quantity-{at}")).and_then(|q| Quantity::from_code(q));
    form.quantity = quantity.map_or("", Quantity::code);
    (form.port, form.unit, form.depth, form.serial) = (field("port"), field("unit"), field("depth"), field("serial"));
    (form.factor, form.plus, form.missing) = (field("factor"), field("plus"), field("missing"));
    form.counter = typed.contains_key(&format!("counter-{at}"));
    let serial = form.serial.text.trim().to_owned();
    let serial_good = take(&mut form.serial, |s| if s.trim().is_empty() { Ok(()) } else { check_serial(s).map(drop) });
    let depth = take(&mut form.depth, |t| optional(t, ranges::DEPTH_CM));
    let number = |text: &str, usual: f64| if text.trim().is_empty() { Ok(usual) } else { read_number(text) };
    let nothing = || "A factor of 0 leaves nothing.".to_owned();
    let factor = take(&mut form.factor, |t| number(t, 1.0).and_then(|f| if f == 0.0 { Err(nothing()) } else { Ok(f) }));
    let plus = take(&mut form.plus, |t| number(t, 0.0));
    let unit = form.unit.text.trim().to_owned();
    let unit_good = take(&mut form.unit, |unit| quantity.map_or(Ok(()), |q| unit_fits(q, unit)));
    let plan = ColumnPlan {
        quantity,
        port: form.port.text.trim().to_owned(),
        unit,
        factor: factor?,
        plus: plus?,
        counter: form.counter,
        depth_cm: depth?,
        serial,
        ..before.clone()
    };
    serial_good.and(unit_good).map(|()| plan)
}

/// Size of a drawing.
const WIDTH: f64 = 150.0;
const HEIGHT: f64 = 30.0;

/// Puts into the forms what the columns' runs show, and what the record has there.
pub fn show_runs(forms: &mut [ColumnForm], columns: &[Column], overlaps: &[Overlap], mapping: &Mapping) {
    for form in forms {
        let Some(c) = columns.get(form.at) else { continue };
        let plan = &mapping.columns[form.at];
        let overlap = overlaps.iter().find(|o| o.column == form.at);
        form.seen = Some(seen(c, plan, overlap));
    }
}

fn seen(c: &Column, plan: &ColumnPlan, overlap: Option<&Overlap>) -> Seen {
    let number = |v: f64| format_plain((v * 1e9).round() / 1e9).replace('-', "−");
    let (least, greatest) = c.range().map(|(a, b)| (number(a), number(b))).unwrap_or_default();
    let stored = |v: f64| v * plan.factor + plan.plus;
    let of_run = c.trace.steps().iter().map(|(a, b)| (stored(*a).min(stored(*b)), stored(*a).max(stored(*b))));
    let changed = (plan.factor, plan.plus) != (1.0, 0.0) && !plan.counter;
    let in_unit = |(a, b): (f64, f64)| {
        let (low, high) = (stored(a).min(stored(b)), stored(a).max(stored(b)));
        format!("{} to {} {}", number(low), number(high), plan.unit)
    };
    let of_run: Vec<(f64, f64)> = if plan.counter { c.trace.steps().to_vec() } else { of_run.collect() };
    let there: Vec<Option<(f64, f64)>> = overlap.map(|o| o.there.clone()).unwrap_or_default();
    let all = of_run.iter().copied().chain(there.iter().flatten().copied());
    let (low, high) = all.fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), (a, b)| (l.min(a), h.max(b)));
    let run: Vec<Option<(f64, f64)>> = of_run.into_iter().map(Some).collect();
    let (text, apart) = overlap.map(overlap_words).unwrap_or_default();
    Seen {
        valid: grouped(c.valid),
        missing: grouped(c.missing),
        words: c.is_words(),
        unread: if c.words > 0 { grouped(c.words) } else { String::new() },
        noted: if c.noted > 0 { grouped(c.noted) } else { String::new() },
        least,
        greatest,
        step: c.step.map(number).unwrap_or_default(),
        stored: if changed { c.range().map(in_unit).unwrap_or_default() } else { String::new() },
        drawing: outline(&run, low, high),
        there: outline(&there, low, high),
        overlap: text,
        apart,
    }
}

fn overlap_words(o: &Overlap) -> (String, bool) {
    if o.shared == 0 {
        return ("no reading of it is in the record yet".to_owned(), false);
    }
    let all = o.alike == o.shared;
    let mut text = if all {
        format!("{} are in the record already, all with the same value", grouped(o.shared))
    } else {
        format!("{} are in the record already, {} with another value", grouped(o.shared), grouped(o.shared - o.alike))
    };
    if let Some((_, there, here)) = o.first_other {
        let _infallible = write!(text, " (the first: {} there, {} here)", format_plain(there), format_plain(here));
    }
    if let Some(shift) = o.shift_s {
        let hours = format_plain(shift.abs() as f64 / 3600.0);
        let way = if shift > 0 { "later" } else { "earlier" };
        let _infallible =
            write!(text, "; they agree if this file lies {hours} h {way} than the record: is its clock right?");
    }
    (text, !all)
}

/// A path through the greatest values of a run and back through its least.
fn outline(steps: &[Option<(f64, f64)>], low: f64, high: f64) -> String {
    let n = steps.len();
    if n == 0 || !low.is_finite() || !high.is_finite() {
        return String::new();
    }
    let x = |i: usize| WIDTH * i as f64 / (n.max(2) - 1) as f64;
    let y = |v: f64| if high > low { HEIGHT - 1.0 - (HEIGHT - 2.0) * (v - low) / (high - low) } else { HEIGHT / 2.0 };
    let mut out = String::new();
    let mut from = 0;
    while from < n {
        if steps[from].is_none() {
            from += 1;
            continue;
        }
        let to = (from..n).find(|i| steps[*i].is_none()).unwrap_or(n);
        let stretch: Vec<(usize, (f64, f64))> = (from..to).filter_map(|i| Some((i, steps[i]?))).collect();
        let upper = stretch.iter().map(|(i, (_, b))| format!("{:.1},{:.1}", x(*i), y(*b) - 0.4));
        let lower = stretch.iter().rev().map(|(i, (a, _))| format!("{:.1},{:.1}", x(*i), y(*a) + 0.4));
        let _infallible = write!(out, "M{}Z", upper.chain(lower).collect::<Vec<_>>().join("L"));
        from = to;
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use ebrel_formats::logger::Separator;

    fn mapping() -> Mapping {
        let plan = ColumnPlan {
            table: String::new(),
            logger: String::new(),
            column: "m05".into(),
            quantity: Some(Quantity::RawOutput),
            port: "m05".into(),
            unit: "mV".into(),
            factor: 1.0,
            plus: 0.0,
            counter: false,
            depth_cm: Some(5.0),
            serial: String::new(),
        };
        Mapping { node: "node 03".into(), columns: vec![plan] }
    }

    fn typed(changes: &[(&str, &str)]) -> (Vec<ColumnForm>, Option<Mapping>, Recipe) {
        let plain =
            [("node", "node 03"), ("quantity-0", "raw_output"), ("port-0", "m05"), ("unit-0", "mV"), ("depth-0", "5")];
        let typed: Typed = plain.iter().chain(changes).map(|(n, v)| ((*n).to_owned(), (*v).to_owned())).collect();
        let mut recipe = Recipe::plain(Separator::Comma, 0);
        let (forms, read) = read_columns(&typed, &mapping(), &mut recipe);
        (forms, read, recipe)
    }

    #[test]
    fn an_unchanged_form_gives_back_what_it_showed_and_marks_go_into_the_recipe() {
        assert_eq!(typed(&[]).1, Some(mapping()));
        let (_, read, recipe) = typed(&[("missing-0", "6999 ERR"), ("factor-0", "0,1"), ("counter-0", "yes")]);
        assert_eq!(recipe.missing_in["m05"], ["6999", "ERR"]);
        let plan = &read.unwrap().columns[0];
        assert_eq!((plan.factor, plan.counter), (0.1, true));
    }

    #[test]
    fn each_slip_stands_at_its_field() {
        let (forms, read, _) = typed(&[("depth-0", "deep"), ("factor-0", "0"), ("plus-0", "x")]);
        assert_eq!(read, None);
        assert!([&forms[0].depth, &forms[0].factor, &forms[0].plus].iter().all(|f| f.error.is_some()));
        let (forms, read, _) = typed(&[("unit-0", "")]);
        assert!(read.is_none() && forms[0].unit.error.as_ref().unwrap().contains("like mV or counts"));
    }

    #[test]
    fn a_run_is_drawn_within_its_frame_whatever_it_holds() {
        assert_eq!(outline(&[], 0.0, 1.0), "");
        assert!(outline(&[Some((5.0, 5.0))], 5.0, 5.0).starts_with("M0.0,14.6"));
        let gap = outline(&[Some((0.0, 1.0)), None, Some((1.0, 2.0))], 0.0, 2.0);
        assert_eq!(gap.matches('M').count(), 2, "{gap}");
    }
}
