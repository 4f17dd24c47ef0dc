//! The tables of a file while it is read: which column of a line is which column of the result.

use super::cells::{Cell, keyed};
use super::column::Column;
use super::header::unlike;
use super::recipe::{Cells, Layout, Named, Recipe};
use std::collections::HashMap;
use std::rc::Rc;

/// What each field of a record is: a value of this column of the result; `None`: part of the time, or a mark.
pub(super) type Slots = Rc<[Option<usize>]>;

/// One table of a file, as its last header has it.
#[derive(Debug, Clone)]
pub(super) struct Table {
    /// By what it is called: the line or the mark that begins it.
    pub label: String,
    /// Whether it has a header; without one, records of another width are another table.
    pub named: bool,
    /// Fields of a record.
    pub width: usize,
    /// Names and units as its last header has them.
    pub columns: Vec<Named>,
    /// Records of it.
    pub records: usize,
    /// What each field is, by the logger that wrote the record.
    slots: HashMap<String, Slots>,
    /// Where columns stand in it that the recipe names by their place in the first header, if that is another place.
    moved: HashMap<usize, usize>,
}

impl Table {
    /// Where a column of the recipe stands in this table.
    pub fn at(&self, column: usize) -> usize {
        self.moved.get(&column).copied().unwrap_or(column)
    }

    /// Columns that hold its time.
    pub fn time<'t>(&'t self, recipe: &'t Recipe) -> impl Iterator<Item = usize> + 't {
        recipe.time.columns.iter().map(|c| self.at(*c))
    }
}

/// A column of the result is one table's, one logger's, of one name and unit.
type Key = (usize, String, String, String);

/// All tables of a file, and the columns of the result.
#[derive(Debug, Clone, Default)]
pub(super) struct Tables {
    pub all: Vec<Table>,
    pub columns: Vec<Column>,
    places: HashMap<Key, usize>,
    /// Long form: the table and the cells that name a channel.
    channels: HashMap<(usize, String), usize>,
}

impl Tables {
    /// Takes names as those of a table from here on, and returns its number. `known` is the table that they belong to, if it is
    /// there already.
    pub fn begin(
        &mut self,
        recipe: &Recipe,
        known: Option<usize>,
        label: &str,
        columns: Vec<Named>,
        width: usize,
    ) -> usize {
        let names: Vec<&str> = columns.iter().map(|c| c.name.as_str()).collect();
        let moved = self.moved(recipe, &names);
        let table =
            Table { label: label.to_owned(), named: true, width, columns, records: 0, slots: HashMap::new(), moved };
        match known {
            Some(at) => {
                let label = std::mem::take(&mut self.all[at].label);
                self.all[at] = Table { label, records: self.all[at].records, ..table };
                at
            }
            None => {
                self.all.push(table);
                self.all.len() - 1
            }
        }
    }

    /// Where the columns that the recipe names by their place went under a header of other names: a column that was put in before them
    /// moved them, and their names tell where to.
    pub fn moved(&self, recipe: &Recipe, names: &[&str]) -> HashMap<usize, usize> {
        let Some(first) = self.all.first() else { return HashMap::new() };
        let long = match &recipe.layout {
            Layout::Wide => Vec::new(),
            Layout::Long { keys, value, unit, note } => {
                keys.iter().chain([value]).chain(unit).chain(note).copied().collect()
            }
        };
        let wanted = recipe.time.columns.iter().copied().chain(recipe.node).chain(long);
        let place = |column: usize| {
            let name = &first.columns.get(column)?.name;
            Some((column, names.iter().position(|n| n == name)?))
        };
        wanted.filter_map(place).filter(|(from, to)| from != to).collect()
    }

    /// The table of records that stand under no header, of this width; begun where there is none yet.
    pub fn nameless(&mut self, recipe: &Recipe, label: &str, width: usize) -> usize {
        let there = self.all.iter().position(|t| !t.named && t.width == width && t.label == label);
        there.unwrap_or_else(|| {
            let given = &recipe.header.columns;
            let mut columns = if given.len() == width || matches!(recipe.cells, Cells::Tagged { .. }) {
                given.clone()
            } else {
                Vec::new()
            };
            columns.resize(columns.len().max(width), Named::default());
            unlike(&mut columns);
            let at = self.begin(recipe, None, label, columns, width);
            self.all[at].named = false;
            at
        })
    }

    /// The table whose names are mostly these: a header that changed is still its.
    pub fn of_names(&self, recipe: &Recipe, columns: &[Named]) -> Option<usize> {
        let names = |columns: &[Named], time: &[usize]| -> Vec<String> {
            columns.iter().enumerate().filter(|(i, _)| !time.contains(i)).map(|(_, c)| c.name.clone()).collect()
        };
        let new = names(columns, &recipe.time.columns);
        let shared = |t: &Table| {
            let old = names(&t.columns, &t.time(recipe).collect::<Vec<_>>());
            let n = new.iter().filter(|n| old.contains(n)).count();
            (n * 2 >= old.len().min(new.len()) && n > 0).then_some(n)
        };
        let found = self.all.iter().enumerate().filter_map(|(i, t)| Some((i, shared(t)?)));
        found.max_by_key(|(_, n)| *n).map(|(i, _)| i)
    }

    /// What each field of a record is. The columns of a table are made at its first record, so that they stand in the order of
    /// the file.
    pub fn slots(&mut self, recipe: &Recipe, at: usize, node: &str) -> Slots {
        if let Some(known) = self.all[at].slots.get(node) {
            return Rc::clone(known);
        }
        let table = self.all[at].clone();
        let aside = |i: usize| {
            table.time(recipe).any(|c| c == i)
                || recipe.node.map(|n| table.at(n)) == Some(i)
                || recipe.tags.as_ref().is_some_and(|t| t.column == i)
        };
        let slots = (0..table.columns.len().max(table.width)).map(|i| {
            if aside(i) {
                return None;
            }
            let named = table
                .columns
                .get(i)
                .cloned()
                .unwrap_or_else(|| Named { name: format!("column {}", i + 1), unit: String::new() });
            Some(self.place(at, &table.label, node, &named))
        });
        let slots: Slots = slots.collect();
        self.all[at].slots.insert(node.to_owned(), Rc::clone(&slots));
        slots
    }

    fn place(&mut self, at: usize, label: &str, node: &str, named: &Named) -> usize {
        let key = (at, node.to_owned(), named.name.clone(), named.unit.clone());
        if let Some(column) = self.places.get(&key) {
            return *column;
        }
        let mut column = Column::named(&named.name, &named.unit);
        (column.table, column.node) = (label.to_owned(), node.to_owned());
        self.columns.push(column);
        self.places.insert(key, self.columns.len() - 1);
        self.columns.len() - 1
    }

    /// Adds a field to a table whose records say what each cell is, and returns its number.
    pub fn field(&mut self, at: usize, name: &str) -> usize {
        let table = &mut self.all[at];
        if let Some(i) = table.columns.iter().position(|c| c.name == name) {
            return i;
        }
        table.columns.push(Named { name: name.to_owned(), unit: String::new() });
        table.width = table.columns.len();
        table.slots.clear();
        table.columns.len() - 1
    }

    /// The column of the result for a reading of a long file, by the cells that name its channel.
    pub fn channel(&mut self, recipe: &Recipe, at: usize, row: &[Cell<'_>]) -> usize {
        let Layout::Long { keys, unit, .. } = &recipe.layout else { return 0 };
        let cell = |i: &usize| row.get(self.all[at].at(*i)).map_or("", AsRef::as_ref);
        let unit = unit.as_ref().map_or("", cell);
        let mut key = String::new();
        for k in keys.iter().chain(recipe.node.iter()) {
            key.push_str(cell(k));
            key.push('\u{1f}');
        }
        key.push_str(unit);
        if let Some(column) = self.channels.get(&(at, key.clone())) {
            return *column;
        }
        let headed = |i: &usize| {
            self.all[at].columns.get(self.all[at].at(*i)).map(|c| c.name.to_lowercase()).unwrap_or_default()
        };
        let (mut name, mut depth_cm) = (String::new(), None);
        for k in keys.iter().filter(|k| !cell(k).is_empty()) {
            let head = headed(k);
            let deep = ["depth", "tiefe", "prof"].iter().any(|d| head.contains(d));
            let per = if head.contains("mm") {
                0.1
            } else if head.ends_with("_m") || head.contains("[m]") || head.contains("(m)") {
                100.0
            } else {
                1.0
            };
            let value: Option<f64> = cell(k).replace(',', ".").parse().ok().filter(|_| deep);
            depth_cm = depth_cm.or(value.map(|v| v * per));
            let said = value.map_or_else(|| cell(k).to_owned(), |v| format!("{} cm", v * per));
            name = if name.is_empty() { said } else { format!("{name} {said}") };
        }
        let node = recipe.node.as_ref().map_or("", cell).to_owned();
        let label = self.all[at].label.clone();
        let column = self.place(at, &label, &node, &Named { name, unit: unit.to_owned() });
        self.columns[column].depth_cm = depth_cm;
        self.channels.insert((at, key), column);
        column
    }
}

/// The cells of a `key=value` line put into the fields of their keys; a cell without a key is called by its place.
pub(super) fn by_key<'l>(tables: &mut Tables, at: usize, row: &[Cell<'l>], mark: char) -> Vec<Option<Cell<'l>>> {
    let mut out: Vec<Option<Cell<'l>>> = vec![None; tables.all[at].columns.len()];
    for (i, cell) in row.iter().enumerate() {
        let (key, value) = match cell {
            Cell::Borrowed(text) => {
                let (key, value) = keyed(text, mark);
                (key.map(str::to_owned), Cell::Borrowed(value))
            }
            Cell::Owned(text) => {
                let (key, value) = keyed(text, mark);
                (key.map(str::to_owned), Cell::Owned(value.to_owned()))
            }
        };
        let field = tables.field(at, &key.unwrap_or_else(|| format!("place {}", i + 1)));
        if out.len() <= field {
            out.resize(field + 1, None);
        }
        out[field] = Some(value);
    }
    out
}
