//! The form of recipe and mapping: as typed, and resolved.

use crate::shell::forms::{Field, optional};
use ebrel_app::importing::{ColumnPlan, Mapping};
use ebrel_core::register::check_serial;
use ebrel_core::units::{Quantity, format_offset, ranges, read_offset};
use ebrel_formats::logger::{Clock, Layout, Recipe, Separator, zone_exists};
use std::collections::HashMap;

/// The form as it stands on the page.
pub struct RecipeForm {
    /// Separator by name, and all names.
    pub separator: &'static str,
    pub separators: Vec<&'static str>,
    pub header_lines: Field,
    /// Columns of the time, counted from 1.
    pub time_columns: Field,
    /// Form of the time.
    pub time_pattern: Field,
    /// Whether the clock is a zone with summer time.
    pub summer_time: bool,
    /// Fixed offset in minutes.
    pub offset: Field,
    pub zone: Field,
    pub decimal_comma: bool,
    /// Marks of missing readings, parted by blanks.
    pub missing: Field,
    /// How values stand, in words.
    pub layout: &'static str,
    pub node: Field,
    pub columns: Vec<ColumnForm>,
    /// Why storing was refused.
    pub refused: Option<String>,
}

/// One column of the form.
pub struct ColumnForm {
    /// Name in the file.
    pub name: String,
    /// Quantity code; empty: left out.
    pub quantity: &'static str,
    pub port: Field,
    pub unit: Field,
    pub depth: Field,
    pub serial: Field,
}

impl RecipeForm {
    /// Whether this separator is chosen.
    pub fn is_separator(&self, words: &str) -> bool {
        self.separator == words
    }

    /// Every quantity with its words, for the choice.
    pub fn quantities(&self) -> Vec<(&'static str, &'static str)> {
        Quantity::ALL.iter().map(|q| (q.code(), q.words())).collect()
    }
}

impl ColumnForm {
    /// Whether this quantity is chosen.
    pub fn is(&self, code: &str) -> bool {
        self.quantity == code
    }
}

/// The form that shows a recipe and a mapping.
pub fn recipe_form(recipe: &Recipe, mapping: &Mapping) -> RecipeForm {
    let (summer_time, offset, zone) = match &recipe.clock {
        Clock::Fixed(minutes) => (false, *minutes, String::new()),
        Clock::Zone(name) => (true, 0, name.clone()),
    };
    let columns: Vec<String> = recipe.time_columns.iter().map(|c| (c + 1).to_string()).collect();
    RecipeForm {
        separator: recipe.separator.words(),
        separators: Separator::ALL.iter().map(|s| s.words()).collect(),
        header_lines: Field::of(&recipe.header_lines.to_string()),
        time_columns: Field::of(&columns.join(" ")),
        time_pattern: Field::of(&recipe.time_pattern),
        summer_time,
        offset: Field::of(&format_offset(i64::from(offset))),
        zone: Field::of(&zone),
        decimal_comma: recipe.decimal_comma,
        missing: Field::of(&recipe.missing.join(" ")),
        layout: if recipe.layout == Layout::Wide { "one record a line" } else { "one reading a line" },
        node: Field::of(&mapping.node),
        columns: mapping
            .columns
            .iter()
            .map(|c| ColumnForm {
                name: c.column.clone(),
                quantity: c.quantity.map_or("", Quantity::code),
                port: Field::of(&c.port),
                unit: Field::of(&c.unit),
                depth: Field::of(&c.depth_cm.map(|d| d.to_string()).unwrap_or_default()),
                serial: Field::of(&c.serial),
            })
            .collect(),
        refused: None,
    }
}

/// Takes a field into `good`, or puts the error at it.
fn take<T>(field: &mut Field, good: &mut Option<T>, result: Result<T, String>) {
    match result {
        Ok(value) => *good = Some(value),
        Err(error) => field.error = Some(error),
    }
}

/// Reads the form. The form comes back as typed, with an error at each field that cannot be taken.
pub fn read_form(
    typed: &HashMap<String, String>,
    known: &Recipe,
    mapping: &Mapping,
) -> (RecipeForm, Result<(Recipe, Mapping), ()>) {
    let text = |name: &str| typed.get(name).map_or("", String::as_str);
    let mut form = recipe_form(known, mapping);
    let separator = Separator::from_words(text("separator")).unwrap_or(known.separator);
    form.separator = separator.words();
    form.decimal_comma = typed.contains_key("decimal_comma");
    form.summer_time = text("clock") == "zone";

    let (mut header, mut time_columns, mut clock) = (None, None, None);
    form.header_lines = Field::of(text("header_lines"));
    let lines = text("header_lines").trim().parse::<usize>().ok().filter(|n| *n <= 200);
    take(&mut form.header_lines, &mut header, lines.ok_or("Give a whole number from 0 to 200.".into()));
    form.time_columns = Field::of(text("time_columns"));
    take(&mut form.time_columns, &mut time_columns, columns(text("time_columns")));
    form.time_pattern = Field::of(text("time_pattern"));
    if text("time_pattern").trim().is_empty() {
        form.time_pattern.error = Some("Give the form of the time, like %Y-%m-%d %H:%M.".into());
    }
    form.offset = Field::of(text("offset"));
    form.zone = Field::of(text("zone"));
    if form.summer_time {
        let zone = text("zone").trim().to_owned();
        let known = zone_exists(&zone).then_some(Clock::Zone(zone));
        take(&mut form.zone, &mut clock, known.ok_or("There is no such zone: take a name like Europe/Paris.".into()));
    } else {
        take(&mut form.offset, &mut clock, offset(text("offset")));
    }
    form.missing = Field::of(text("missing"));
    form.node = Field::of(text("node"));

    let mut plans = Vec::with_capacity(form.columns.len());
    let mut columns_good = true;
    for (i, column) in form.columns.iter_mut().enumerate() {
        let plan = read_column(column, i, &text);
        columns_good &= plan.is_ok();
        plans.extend(plan);
    }
    let pattern_good = form.time_pattern.error.is_none();
    let resolved = match (header, time_columns, clock) {
        (Some(header_lines), Some(time_columns), Some(clock)) if columns_good && pattern_good => {
            let inside = |line: Option<usize>| line.filter(|l| *l < header_lines);
            let recipe = Recipe {
                separator,
                header_lines,
                names_line: inside(known.names_line).or_else(|| header_lines.checked_sub(1)),
                units_line: inside(known.units_line),
                comment: known.comment.clone(),
                decimal_comma: form.decimal_comma,
                time_columns,
                time_pattern: text("time_pattern").trim().to_owned(),
                clock,
                missing: text("missing").split_whitespace().map(str::to_owned).collect(),
                layout: known.layout.clone(),
            };
            Ok((recipe, Mapping { node: text("node").trim().to_owned(), columns: plans }))
        }
        _ => Err(()),
    };
    (form, resolved)
}

fn columns(text: &str) -> Result<Vec<usize>, String> {
    let numbers: Option<Vec<usize>> =
        text.split([' ', ',']).filter(|t| !t.is_empty()).map(|t| t.parse::<usize>().ok()?.checked_sub(1)).collect();
    numbers
        .filter(|n| (1..=3).contains(&n.len()))
        .ok_or_else(|| "Give one to three column numbers, like 1 or 1 2.".into())
}

fn offset(text: &str) -> Result<Clock, String> {
    let minutes = read_offset(text)?;
    Ok(Clock::Fixed(i32::try_from(minutes).unwrap_or(0)))
}

fn read_column<'t>(column: &mut ColumnForm, i: usize, text: &impl Fn(&str) -> &'t str) -> Result<ColumnPlan, ()> {
    let quantity = Quantity::from_code(text(&format!("quantity-{i}")));
    column.quantity = quantity.map_or("", Quantity::code);
    column.port = Field::of(text(&format!("port-{i}")));
    column.unit = Field::of(text(&format!("unit-{i}")));
    column.depth = Field::of(text(&format!("depth-{i}")));
    column.serial = Field::of(text(&format!("serial-{i}")));
    if !column.serial.text.trim().is_empty()
        && let Err(sentence) = check_serial(&column.serial.text)
    {
        column.serial.error = Some(sentence);
        return Err(());
    }
    let mut depth = None;
    let typed = column.depth.text.clone();
    take(&mut column.depth, &mut depth, optional(&typed, ranges::DEPTH_CM));
    let depth_cm = depth.ok_or(())?;
    if let Some(q) = quantity {
        let unit = column.unit.text.trim();
        if !q.unit().is_empty() && unit != q.unit() {
            column.unit.error =
                Some(format!("{} is stored in {}: convert the file, or choose another quantity.", q.words(), q.unit()));
            return Err(());
        }
        if q == Quantity::RawOutput && unit.is_empty() {
            column.unit.error = Some("Give the unit of the raw output, like mV or counts.".into());
            return Err(());
        }
    }
    Ok(ColumnPlan {
        column: column.name.clone(),
        quantity,
        port: column.port.text.trim().to_owned(),
        unit: column.unit.text.trim().to_owned(),
        depth_cm,
        serial: column.serial.text.trim().to_owned(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn known() -> (Recipe, Mapping) {
        let recipe = Recipe {
            separator: Separator::Semicolon,
            header_lines: 2,
            names_line: Some(0),
            units_line: Some(1),
            comment: None,
            decimal_comma: true,
            time_columns: vec![0],
            time_pattern: "%d.%m.%Y %H:%M".into(),
            clock: Clock::Fixed(60),
            missing: vec!["---".into()],
            layout: Layout::Wide,
        };
        let plan = ColumnPlan {
            column: "m05".into(),
            quantity: Some(Quantity::RawOutput),
            port: "m05".into(),
            unit: "mV".into(),
            depth_cm: Some(5.0),
            serial: String::new(),
        };
        (recipe, Mapping { node: "node 03".into(), columns: vec![plan] })
    }

    /// What a browser sends for an unchanged form.
    fn sent(changes: &[(&str, &str)]) -> HashMap<String, String> {
        let plain = [
            ("separator", "semicolon"),
            ("header_lines", "2"),
            ("time_columns", "1"),
            ("time_pattern", "%d.%m.%Y %H:%M"),
            ("clock", "fixed"),
            ("offset", "60"),
            ("missing", "---"),
            ("decimal_comma", "yes"),
            ("node", "node 03"),
            ("quantity-0", "raw_output"),
            ("port-0", "m05"),
            ("unit-0", "mV"),
            ("depth-0", "5"),
        ];
        plain.iter().chain(changes).map(|(n, v)| ((*n).to_owned(), (*v).to_owned())).collect()
    }

    #[test]
    fn an_unchanged_form_gives_back_what_it_showed() {
        let (recipe, mapping) = known();
        let (_, resolved) = read_form(&sent(&[]), &recipe, &mapping);
        assert_eq!(resolved, Ok((recipe, mapping)));
    }

    #[test]
    fn each_slip_stands_at_its_field_and_the_text_stays() {
        let (recipe, mapping) = known();
        let slips = [("header_lines", "two"), ("time_columns", "0"), ("offset", "9000"), ("depth-0", "deep")];
        let (form, resolved) = read_form(&sent(&slips), &recipe, &mapping);
        assert!(resolved.is_err());
        let fields = [&form.header_lines, &form.time_columns, &form.offset, &form.columns[0].depth];
        for (field, (name, typed)) in fields.into_iter().zip(slips) {
            assert!(field.error.is_some() && field.text == typed, "{name}: {field:?}");
        }
    }

    #[test]
    fn fewer_header_lines_than_the_names_stand_in_are_survived() {
        let (recipe, mapping) = known();
        let (_, resolved) = read_form(&sent(&[("header_lines", "1")]), &recipe, &mapping);
        let (changed, _) = resolved.unwrap();
        assert_eq!((changed.header_lines, changed.names_line, changed.units_line), (1, Some(0), None));
    }

    #[test]
    fn raw_output_needs_its_unit() {
        let (recipe, mapping) = known();
        let (form, resolved) = read_form(&sent(&[("unit-0", "")]), &recipe, &mapping);
        assert!(resolved.is_err());
        assert!(form.columns[0].unit.error.as_ref().unwrap().contains("like mV or counts"));
    }
}
