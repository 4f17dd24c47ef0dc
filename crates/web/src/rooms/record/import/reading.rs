//! The form of a recipe, read: as typed with an error at each field that cannot be taken, and resolved.

use super::form::{RecipeForm, Typed};
use crate::shell::forms::Field;
use ebrel_core::units::read_offset;
use ebrel_formats::logger::{Cells, Checksum, Clock, Layout, Recipe, Separator, Tags, TimeForm, zone_exists};
use std::collections::BTreeMap;

/// Reads what was typed into a field, or puts the error at it.
pub fn take<T>(field: &mut Field, read: impl FnOnce(&str) -> Result<T, String>) -> Option<T> {
    read(&field.text).map_err(|error| field.error = Some(error)).ok()
}

/// Reads the form. The form comes back as typed, with an error at each field that cannot be taken, and then without a recipe.
pub fn read_form(typed: &Typed, known: &Recipe) -> (RecipeForm, Option<Recipe>) {
    let text = |name: &str| typed.get(name).map_or("", |t| t.trim());
    let field = |name: &str| Field::of(typed.get(name).map_or("", String::as_str));
    let mut form = RecipeForm {
        separator: text("separator").to_owned(),
        starts: field("starts"),
        comment: text("comment").chars().take(8).collect(),
        mark: typed.get("mark").cloned().unwrap_or_default().chars().take(40).collect(),
        quoted_breaks: typed.contains_key("quoted_breaks"),
        header_lines: field("header_lines"),
        names_line: field("names_line"),
        units_line: field("units_line"),
        checksum: text("checksum").to_owned(),
        checksum_mark: field("checksum_mark"),
        tag_records: text("tag_records").to_owned(),
        tag_header: text("tag_header").to_owned(),
        tag_other: text("tag_other").to_owned(),
        time_columns: field("time_columns"),
        time_pattern: field("time_pattern"),
        newest_first: typed.contains_key("newest_first"),
        clock: text("clock").to_owned(),
        offset: field("offset"),
        zone: field("zone"),
        words: field("words"),
        decimal_comma: typed.contains_key("decimal_comma"),
        thousands: text("thousands").to_owned(),
        missing: field("missing"),
        notes: field("notes"),
        long: text("layout") == "long",
        keys: field("keys"),
        value: field("value"),
        unit: field("unit"),
        note: field("note"),
        node_column: field("node_column"),
    };
    let recipe = resolve(&mut form, known);
    (form, recipe)
}

fn resolve(form: &mut RecipeForm, known: &Recipe) -> Option<Recipe> {
    let mut recipe = known.clone();
    let mut good = true;
    let mut keep = |ok: bool| good &= ok;
    let cells = cells(form, known);
    keep(cells.is_some());
    recipe.cells = cells.unwrap_or_else(|| known.cells.clone());
    if recipe.cells != known.cells {
        // Another way to part lines makes other columns: what was known of them holds no more.
        recipe.header.widths.clear();
        recipe.header.columns.clear();
    }
    recipe.comment = Some(form.comment.clone()).filter(|c| !c.is_empty());
    recipe.quoted_breaks = form.quoted_breaks;
    recipe.header.mark = Some(form.mark.clone()).filter(|m| !m.trim().is_empty());
    let lines = take(&mut form.header_lines, |t| count_or_none(t, 200));
    keep(lines.is_some());
    recipe.header.lines = lines.flatten();
    if recipe.header.lines != known.header.lines {
        recipe.header.widths.clear();
    }
    for (field, to) in
        [(&mut form.names_line, &mut recipe.header.names), (&mut form.units_line, &mut recipe.header.units)]
    {
        let line = take(field, column_or_none);
        keep(line.is_some());
        *to = line.flatten();
    }
    recipe.checksum = sum(form, known);
    recipe.tags = tags(form);
    let columns = take(&mut form.time_columns, |t| columns(t, 1..=6));
    keep(columns.is_some());
    recipe.time.columns = columns.unwrap_or_default();
    let forms = take(&mut form.time_pattern, forms);
    keep(forms.is_some());
    recipe.time.forms = forms.unwrap_or_default();
    recipe.time.newest_first = form.newest_first;
    let clock = clock(form);
    keep(clock.is_some());
    recipe.time.clock = clock.unwrap_or(Clock::Fixed(0));
    recipe.decimal_comma = form.decimal_comma;
    recipe.thousands = if form.thousands == "blank" { Some(' ') } else { form.thousands.chars().next() };
    recipe.missing = words(&form.missing.text);
    recipe.notes = words(&form.notes.text);
    let node = take(&mut form.node_column, column_or_none);
    keep(node.is_some());
    recipe.node = node.flatten();
    let layout = layout(form);
    keep(layout.is_some());
    recipe.layout = layout.unwrap_or(Layout::Wide);
    good.then_some(recipe)
}

fn cells(form: &mut RecipeForm, known: &Recipe) -> Option<Cells> {
    if form.separator == "fixed" {
        let read = |text: &str| {
            let mut starts = columns(text, 1..=500)?;
            starts.sort_unstable();
            starts.dedup();
            if starts.first() == Some(&0) {
                Ok(starts)
            } else {
                Err("The first column begins at character 1.".to_owned())
            }
        };
        return take(&mut form.starts, read).map(Cells::Fixed);
    }
    if let Some(between) = form.separator.strip_prefix("key ").and_then(Separator::from_words) {
        let mark = if let Cells::Tagged { mark, .. } = known.cells { mark } else { '=' };
        return Some(Cells::Tagged { between, mark });
    }
    let separator = Separator::from_words(&form.separator).or_else(|| known.separator()).unwrap_or(Separator::Comma);
    form.separator = separator.words().to_owned();
    Some(Cells::Delimited(separator))
}

fn sum(form: &mut RecipeForm, known: &Recipe) -> Option<Checksum> {
    if form.checksum.is_empty() || form.checksum == "off" {
        form.checksum = "off".into();
        return None;
    }
    let mark = form.checksum_mark.text.trim().chars().next().unwrap_or('*');
    form.checksum_mark = Field::of(&mark.to_string());
    let like = known.checksum.clone().unwrap_or(Checksum {
        method: String::new(),
        mark,
        with_mark: false,
        skip: 0,
        cut: 0,
        decimal: false,
    });
    Some(Checksum { method: form.checksum.clone(), mark, ..like })
}

fn tags(form: &RecipeForm) -> Option<Tags> {
    let records = words(&form.tag_records);
    (!records.is_empty()).then(|| Tags {
        column: 0,
        records,
        header: words(&form.tag_header),
        other: words(&form.tag_other),
    })
}

fn clock(form: &mut RecipeForm) -> Option<Clock> {
    match form.clock.as_str() {
        "zone" => {
            let known = |zone: &str| zone_exists(zone.trim()).then(|| Clock::Zone(zone.trim().to_owned()));
            take(&mut form.zone, |z| {
                known(z).ok_or_else(|| "There is no such zone: take a name like Europe/Paris.".to_owned())
            })
        }
        "words" => take(&mut form.words, told_words).map(Clock::Words),
        _ => {
            form.clock = "fixed".into();
            take(&mut form.offset, read_offset).map(|m| Clock::Fixed(i32::try_from(m).unwrap_or(0)))
        }
    }
}

/// `S=+03:00 N=+02:00`.
fn told_words(text: &str) -> Result<BTreeMap<String, i32>, String> {
    let wrong = || "Write each word with its offset, like S=+03:00 N=+02:00.".to_owned();
    let pair = |part: &str| {
        let (word, offset) = part.split_once('=').ok_or_else(wrong)?;
        let minutes = read_offset(offset).map_err(|_| wrong())?;
        Ok((word.to_owned(), i32::try_from(minutes).unwrap_or(0)))
    };
    text.split_whitespace().map(pair).collect()
}

fn layout(form: &mut RecipeForm) -> Option<Layout> {
    if !form.long {
        return Some(Layout::Wide);
    }
    let keys = take(&mut form.keys, |t| columns(t, 1..=8));
    let value = take(&mut form.value, |t| columns(t, 1..=1));
    let unit = take(&mut form.unit, column_or_none);
    let note = take(&mut form.note, column_or_none);
    Some(Layout::Long { keys: keys?, value: value?[0], unit: unit?, note: note? })
}

fn words(text: &str) -> Vec<String> {
    text.split([' ', '\t']).filter(|w| !w.is_empty()).take(60).map(|w| w.replace('\u{a0}', " ")).collect()
}

fn forms(text: &str) -> Result<Vec<String>, String> {
    let forms: Vec<String> = text.split('|').map(|f| f.trim().to_owned()).filter(|f| !f.is_empty()).collect();
    if forms.is_empty() {
        return Err("Give the form of the time, like %Y-%m-%d %H:%M.".into());
    }
    for form in &forms {
        TimeForm::new(form).map_err(|e| format!("“{form}”: {e}."))?;
    }
    Ok(forms)
}

fn count_or_none(text: &str, most: usize) -> Result<Option<usize>, String> {
    if text.trim().is_empty() {
        return Ok(None);
    }
    let n = text.trim().parse::<usize>().ok().filter(|n| *n <= most);
    n.map(Some).ok_or_else(|| format!("Give a whole number from 0 to {most}, or nothing."))
}

fn column_or_none(text: &str) -> Result<Option<usize>, String> {
    if text.trim().is_empty() {
        return Ok(None);
    }
    columns(text, 1..=1).map(|c| c.first().copied())
}

fn columns(text: &str, how_many: std::ops::RangeInclusive<usize>) -> Result<Vec<usize>, String> {
    let numbers: Option<Vec<usize>> = text
        .split([' ', ','])
        .filter(|t| !t.is_empty())
        .map(|t| t.parse::<usize>().ok()?.checked_sub(1).filter(|n| *n < 100_000))
        .collect();
    let wanted = match (how_many.start(), how_many.end()) {
        (1, 1) => "Give one number, counted from 1.".to_owned(),
        (a, b) => format!("Give {a} to {b} numbers, counted from 1, like 1 or 1 2."),
    };
    numbers.filter(|n| how_many.contains(&n.len())).ok_or(wanted)
}

#[cfg(test)]
mod tests {
    use super::super::form::recipe_form;
    use super::*;

    /// Every field of the form as a browser sends it for an unchanged page.
    fn sent(form: &RecipeForm) -> Typed {
        let mut out: Vec<(&str, String)> = vec![
            ("separator", form.separator.clone()),
            ("starts", form.starts.text.clone()),
            ("comment", form.comment.clone()),
            ("mark", form.mark.clone()),
            ("header_lines", form.header_lines.text.clone()),
            ("names_line", form.names_line.text.clone()),
            ("units_line", form.units_line.text.clone()),
            ("checksum", form.checksum.clone()),
            ("checksum_mark", form.checksum_mark.text.clone()),
            ("tag_records", form.tag_records.clone()),
            ("tag_header", form.tag_header.clone()),
            ("tag_other", form.tag_other.clone()),
            ("time_columns", form.time_columns.text.clone()),
            ("time_pattern", form.time_pattern.text.clone()),
            ("clock", form.clock.clone()),
            ("offset", form.offset.text.clone()),
            ("zone", form.zone.text.clone()),
            ("words", form.words.text.clone()),
            ("thousands", form.thousands.clone()),
            ("missing", form.missing.text.clone()),
            ("notes", form.notes.text.clone()),
            ("layout", if form.long { "long" } else { "wide" }.to_owned()),
            ("keys", form.keys.text.clone()),
            ("value", form.value.text.clone()),
            ("unit", form.unit.text.clone()),
            ("note", form.note.text.clone()),
            ("node_column", form.node_column.text.clone()),
        ];
        let boxes = [
            ("decimal_comma", form.decimal_comma),
            ("newest_first", form.newest_first),
            ("quoted_breaks", form.quoted_breaks),
        ];
        out.extend(boxes.into_iter().filter(|(_, on)| *on).map(|(name, _)| (name, "yes".to_owned())));
        out.into_iter().map(|(n, v)| (n.to_owned(), v)).collect()
    }

    fn recipes() -> Vec<Recipe> {
        let mut plain = Recipe::plain(Separator::Semicolon, 60);
        (plain.decimal_comma, plain.missing, plain.header.lines, plain.header.names) =
            (true, vec!["no data".into(), "-9999".into()], Some(2), Some(1));
        let mut fixed = Recipe { cells: Cells::Fixed(vec![0, 5, 12]), ..Recipe::plain(Separator::Comma, 0) };
        (fixed.time.columns, fixed.time.forms, fixed.time.newest_first) =
            (vec![0, 1], vec!["%Y %j".into(), "%s".into()], true);
        let mut long = Recipe {
            cells: Cells::Tagged { between: Separator::Tab, mark: ':' },
            ..Recipe::plain(Separator::Comma, 0)
        };
        long.layout = Layout::Long { keys: vec![1, 2], value: 3, unit: Some(4), note: None };
        long.time.clock = Clock::Words([("N".to_owned(), 120), ("S".to_owned(), 180)].into());
        (long.thousands, long.notes, long.node) = (Some(' '), vec!["*".into()], Some(6));
        let mut tagged = Recipe::plain(Separator::Semicolon, 0);
        tagged.tags = Some(Tags {
            column: 0,
            records: vec!["D".into()],
            header: vec!["H".into(), "U".into()],
            other: vec!["E".into()],
        });
        tagged.checksum =
            Some(Checksum { method: "xor8".into(), mark: '*', with_mark: false, skip: 0, cut: 1, decimal: false });
        tagged.time.clock = Clock::Zone("Europe/Paris".into());
        (tagged.header.mark, tagged.quoted_breaks) = (Some("*** ".into()), true);
        vec![plain, fixed, long, tagged]
    }

    #[test]
    fn an_unchanged_form_gives_back_what_it_showed() {
        for recipe in recipes() {
            let (form, read) = read_form(&sent(&recipe_form(&recipe)), &recipe);
            assert_eq!(read, Some(recipe), "{:?}", form.time_pattern);
        }
    }

    #[test]
    fn each_slip_stands_at_its_field_and_the_text_stays() {
        let recipe = &recipes()[0];
        let mut typed = sent(&recipe_form(recipe));
        for (name, text) in [
            ("header_lines", "two"),
            ("time_columns", "0"),
            ("offset", "9000"),
            ("time_pattern", "%H:%M"),
            ("node_column", "x"),
        ] {
            typed.insert(name.to_owned(), text.to_owned());
        }
        let (form, read) = read_form(&typed, recipe);
        assert_eq!(read, None);
        for field in [&form.header_lines, &form.time_columns, &form.offset, &form.time_pattern, &form.node_column] {
            assert!(field.error.is_some() && !field.text.is_empty(), "{field:?}");
        }
    }
}
