//! What the columns of a file are: suggested by their names and runs, corrected by a person, fitted to the next file.

use ebrel_core::units::{Quantity, UnixSeconds, ranges};
use ebrel_formats::logger::{Column, Recipe, Suggestion, Survey, suggest_columns};
use ebrel_store::streams::Stream;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::Path;

/// Which column goes to which channel.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Mapping {
    /// The node that wrote the file.
    pub node: String,
    /// One plan per column of the file, in its order.
    pub columns: Vec<ColumnPlan>,
}

/// What becomes of one column.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ColumnPlan {
    /// The table it stands in; empty where the file holds one.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub table: String,
    /// The logger that wrote it, where the file tells several apart.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub logger: String,
    /// The column's name in the file.
    pub column: String,
    /// The quantity; `None`: the column is left out.
    pub quantity: Option<Quantity>,
    /// Port at the node.
    pub port: String,
    /// Unit in which it is stored.
    pub unit: String,
    /// Stored value = file's value times this,
    #[serde(default = "one")]
    pub factor: f64,
    /// plus this, in the unit that is stored.
    #[serde(default)]
    pub plus: f64,
    /// The column counts on and on: what is stored is the difference to the record before.
    #[serde(default)]
    pub counter: bool,
    /// Depth of a new placement, cm.
    pub depth_cm: Option<f64>,
    /// Serial of the probe of a new placement; empty: named after node and port.
    #[serde(default)]
    pub serial: String,
}

const fn one() -> f64 {
    1.0
}

impl ColumnPlan {
    /// A column that is left out.
    fn left_out(column: &Column) -> Self {
        Self {
            table: column.table.clone(),
            logger: column.node.clone(),
            column: column.name.clone(),
            quantity: None,
            port: port_name(&column.name),
            unit: column.unit.clone(),
            factor: 1.0,
            plus: 0.0,
            counter: false,
            depth_cm: None,
            serial: String::new(),
        }
    }

    /// The node at which it ends.
    #[must_use]
    pub fn node<'n>(&'n self, mapping: &'n Mapping) -> &'n str {
        if self.logger.is_empty() { mapping.node.trim() } else { self.logger.trim() }
    }
}

/// A recipe as it is saved: how the file is written, and what its columns are.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SavedRecipe {
    /// How the file is written.
    pub recipe: Recipe,
    /// What its columns are.
    pub mapping: Mapping,
}

/// Lines at the head of a file by which it is recognised.
pub const HEAD_LINES: usize = 200;

/// A first mapping: quantities by names, units and runs, the node by the head of the file or its name.
#[must_use]
pub fn first_mapping(survey: &Survey, head: &[String], file_name: &str) -> Mapping {
    let plan = |(c, s): (&Column, Suggestion)| {
        // A column of words with a number here and there is none of readings.
        let readable = c.valid > 0 && c.words <= c.valid + c.missing;
        ColumnPlan {
            quantity: s.quantity.filter(|_| readable),
            unit: s.unit,
            factor: s.factor,
            plus: s.plus,
            depth_cm: s.depth_cm,
            ..ColumnPlan::left_out(c)
        }
    };
    let mut columns: Vec<ColumnPlan> = survey.columns.iter().zip(suggest_columns(&survey.columns)).map(plan).collect();
    tell_ports_apart(&mut columns);
    let named = node_in_head(head);
    Mapping { node: named.unwrap_or_else(|| node_of_file(file_name)), columns }
}

/// Columns of one name in several tables go to ports that carry the table's name.
fn tell_ports_apart(columns: &mut [ColumnPlan]) {
    let mut seen: HashMap<(String, String, Option<Quantity>), usize> = HashMap::new();
    for c in columns.iter().filter(|c| c.quantity.is_some()) {
        *seen.entry((c.logger.clone(), c.port.clone(), c.quantity)).or_default() += 1;
    }
    let mut taken = BTreeSet::new();
    for (i, c) in columns.iter_mut().enumerate().filter(|(_, c)| c.quantity.is_some()) {
        if seen[&(c.logger.clone(), c.port.clone(), c.quantity)] > 1 && !c.table.is_empty() {
            c.port = format!("{} {}", c.table, c.port);
        }
        if !taken.insert((c.logger.clone(), c.port.clone(), c.quantity)) {
            c.port = format!("{} ({})", c.port, i + 1);
        }
    }
}

/// "node 03", if the head of the file names it.
fn node_in_head(head: &[String]) -> Option<String> {
    head.iter().take(5).find_map(|line| {
        let lower = line.to_lowercase();
        let at = lower.find("node ")?;
        let digits: String = lower[at + 5..].chars().take_while(char::is_ascii_alphanumeric).collect();
        digits.chars().any(|c| c.is_ascii_digit()).then(|| format!("node {digits}"))
    })
}

/// The file's name without its ending, for want of a better name.
fn node_of_file(file_name: &str) -> String {
    let own = file_name.rsplit('/').next().unwrap_or(file_name);
    let plain = own.strip_suffix(".gz").unwrap_or(own);
    let stem = Path::new(plain).file_stem().map(|s| s.to_string_lossy().replace('_', " "));
    stem.filter(|s| !s.is_empty()).unwrap_or_else(|| "node".to_owned())
}

/// Where the file itself names no node: the one node of the station that has all its ports, so that the next file of
/// a logger finds its way whatever it is called. Where several have them, nobody can tell, and the name is left empty.
pub fn find_node(mapping: &mut Mapping, head: &[String], streams: &[Stream]) {
    let taken: Vec<_> = mapping.columns.iter().filter_map(|c| Some((c.port.as_str(), c.quantity?))).collect();
    if node_in_head(head).is_some() || taken.is_empty() || mapping.columns.iter().any(|c| !c.logger.is_empty()) {
        return;
    }
    let nodes = nodes_with(&taken, streams);
    match nodes[..] {
        [] => {}
        [one] => mapping.node = one.to_owned(),
        _ if nodes.contains(&mapping.node.as_str()) => {}
        _ => mapping.node.clear(),
    }
}

/// The nodes of a station that have all of these ports.
fn nodes_with<'s>(taken: &[(&str, Quantity)], streams: &'s [Stream]) -> Vec<&'s str> {
    let has: HashMap<&str, BTreeSet<(&str, Quantity)>> = streams.iter().fold(HashMap::new(), |mut all, s| {
        all.entry(s.node.as_str()).or_insert_with(BTreeSet::new).insert((s.port.as_str(), s.quantity));
        all
    });
    let mut nodes: Vec<&str> =
        has.iter().filter(|(_, ports)| taken.iter().all(|t| ports.contains(t))).map(|(n, _)| *n).collect();
    nodes.sort_unstable();
    nodes
}

/// A column's name without its unit, as a port.
fn port_name(column: &str) -> String {
    let plain = column.split(['[', '(']).next().unwrap_or(column).trim();
    let plain = if plain.is_empty() { column } else { plain };
    plain.chars().take(80).collect()
}

/// Fits a saved mapping to the columns of a file: by table, logger and name; columns it does not know are left out.
#[must_use]
pub fn fitted(saved: &Mapping, survey: &Survey) -> Mapping {
    let by: HashMap<(&str, &str, &str), &ColumnPlan> =
        saved.columns.iter().map(|p| ((p.table.as_str(), p.logger.as_str(), p.column.as_str()), p)).collect();
    let by_name: HashMap<&str, &ColumnPlan> = saved.columns.iter().map(|p| (p.column.as_str(), p)).collect();
    let columns = survey.columns.iter().map(|c| {
        let exact = by.get(&(c.table.as_str(), c.node.as_str(), c.name.as_str()));
        // A file that holds but one table names none.
        let other = by_name.get(c.name.as_str()).filter(|p| p.table.is_empty() || c.table.is_empty());
        let known = exact.or(other).copied().cloned();
        known.map_or_else(
            || ColumnPlan::left_out(c),
            |p| ColumnPlan { table: c.table.clone(), logger: c.node.clone(), column: c.name.clone(), ..p },
        )
    });
    Mapping { node: saved.node.clone(), columns: columns.collect() }
}

/// What hinders storing, as sentences; empty: it can be stored.
#[must_use]
pub fn hindrances(survey: &Survey, mapping: &Mapping, streams: &[Stream], now: UnixSeconds) -> Vec<String> {
    let mut out = Vec::new();
    let taken: Vec<&ColumnPlan> = mapping.columns.iter().filter(|c| c.quantity.is_some()).collect();
    if survey.tally.records == 0 {
        let why = if survey.groups.is_empty() { "say below how the file is written" } else { "see the reasons below" };
        out.push(format!("No line could be read with this recipe: {why}."));
    }
    if taken.is_empty() && survey.tally.records > 0 {
        out.push("No column is chosen: give at least one its quantity.".to_owned());
    }
    if taken.iter().any(|c| c.node(mapping).is_empty()) {
        let ports: Vec<_> = taken.iter().filter_map(|c| Some((c.port.as_str(), c.quantity?))).collect();
        let nodes = nodes_with(&ports, streams);
        out.push(if nodes.len() > 1 {
            format!("Which logger wrote this? {} all have these columns: name the node.", nodes.join(", "))
        } else {
            "Name the node that wrote the file.".to_owned()
        });
    }
    let mut ports: BTreeMap<(&str, &str, Quantity), usize> = BTreeMap::new();
    for c in &taken {
        let Some(quantity) = c.quantity else { continue };
        let n = ports.entry((c.node(mapping), c.port.trim(), quantity)).or_default();
        *n += 1;
        if *n == 2 {
            out.push(format!(
                "Two columns go to port “{}” with the same quantity: name one of them otherwise.",
                c.port
            ));
        }
        out.extend(column_hindrances(c, quantity));
    }
    if let Some((_, last)) = survey.extent.filter(|e| e.1.0 > now.0 + 86_400) {
        out.push(format!(
            "The last record lies in the future ({}): is the order of day and month right, and the logger's clock?",
            ebrel_formats::rfc3339(last)
        ));
    }
    out.truncate(20);
    out
}

/// What is wrong with one column's plan: the same in the command line and on the page.
fn column_hindrances(c: &ColumnPlan, quantity: Quantity) -> Vec<String> {
    let mut out = Vec::new();
    if c.port.trim().is_empty() {
        out.push(format!("Name the port of column “{}”.", c.column));
    }
    if let Some(depth) = c.depth_cm
        && let Err(e) = ranges::DEPTH_CM.check(depth)
    {
        out.push(format!("Column “{}”: {e}.", c.column));
    }
    if let Err(e) = unit_fits(quantity, &c.unit) {
        out.push(format!("Column “{}”: {e}", c.column));
    }
    if !c.factor.is_finite() || c.factor == 0.0 || !c.plus.is_finite() {
        out.push(format!("Column “{}”: the factor must be a number other than 0.", c.column));
    }
    out
}

/// Whether a quantity may be stored in a unit.
///
/// # Errors
/// A sentence that says what to do.
pub fn unit_fits(quantity: Quantity, unit: &str) -> Result<(), String> {
    let unit = unit.trim();
    if !quantity.unit().is_empty() && unit != quantity.unit() {
        return Err(format!(
            "{} is stored in {}: say by factor and offset how the file's values get there, or choose another quantity.",
            quantity.words(),
            quantity.unit()
        ));
    }
    if quantity == Quantity::RawOutput && unit.is_empty() {
        return Err("Give the unit of the raw output, like mV or counts.".to_owned());
    }
    Ok(())
}

/// What the head of a file looks like: the names of all its columns. Files of one logger and program look alike.
#[must_use]
pub fn head_of(survey: &Survey) -> String {
    let names = survey.tables.iter().filter(|t| t.named).map(|t| {
        let names: Vec<&str> = t.columns.iter().map(|c| c.name.as_str()).collect();
        names.join("\u{1f}")
    });
    names.collect::<Vec<_>>().join("\u{1e}")
}
