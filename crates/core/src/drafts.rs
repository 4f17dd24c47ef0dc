//! Two people at one form: what one of them saves from an old page is merged into what the other saved meanwhile, field by
//! field, and where both changed the same field nothing is lost unseen.

use serde_json::{Map, Value};
use std::collections::BTreeSet;

/// A field that both changed.
#[derive(Debug, Clone, PartialEq)]
pub struct Conflict {
    /// Its path in the draft: `probes.2.depth_cm`.
    pub path: String,
    /// What was typed on the old page.
    pub mine: Value,
    /// What stands: the other's.
    pub theirs: Value,
}

/// What came of a merge.
#[derive(Debug, Clone, PartialEq)]
pub struct Merged {
    /// The draft: each one's changes, and the other's where both changed a field.
    pub draft: Value,
    /// The fields that both changed.
    pub conflicts: Vec<Conflict>,
}

/// Merges two drafts that began as `base`.
///
/// Lists are merged item by item. One that the other made shorter stays as the other left it; what was changed in it here is a
/// conflict of the whole list.
///
/// ```
/// use ebrel_core::drafts::merge;
/// use serde_json::json;
/// let base = json!({"depth": "15", "port": "m15"});
/// let merged = merge(&base, &json!({"depth": "20", "port": "m15"}), &json!({"depth": "15", "port": "m20"}));
/// assert_eq!(merged.draft, json!({"depth": "20", "port": "m20"}));
/// assert!(merged.conflicts.is_empty());
/// ```
#[must_use]
pub fn merge(base: &Value, mine: &Value, theirs: &Value) -> Merged {
    let mut conflicts = Vec::new();
    let draft = one(base, mine, theirs, String::new(), &mut conflicts);
    Merged { draft, conflicts }
}

/// Merges two drafts whose common beginning nobody remembers: the other's stands, and each difference is told.
#[must_use]
pub fn merge_without_base(mine: &Value, theirs: &Value) -> Merged {
    merge(&emptied(theirs), mine, theirs)
}

/// The same shape with nothing in it.
fn emptied(draft: &Value) -> Value {
    match draft {
        Value::Object(map) => Value::Object(map.iter().map(|(k, v)| (k.clone(), emptied(v))).collect()),
        Value::Array(list) => Value::Array(list.iter().map(emptied).collect()),
        _ => Value::Null,
    }
}

fn one(base: &Value, mine: &Value, theirs: &Value, path: String, conflicts: &mut Vec<Conflict>) -> Value {
    if mine == base || mine == theirs {
        return theirs.clone();
    }
    if theirs == base {
        return mine.clone();
    }
    let at = |key: &str| if path.is_empty() { key.to_owned() } else { format!("{path}.{key}") };
    match (base, mine, theirs) {
        (Value::Object(b), Value::Object(m), Value::Object(t)) => {
            let keys: BTreeSet<&String> = b.keys().chain(m.keys()).chain(t.keys()).collect();
            let of = |map: &Map<String, Value>, key: &String| map.get(key).cloned().unwrap_or(Value::Null);
            let each = keys.into_iter().map(|k| (k.clone(), one(&of(b, k), &of(m, k), &of(t, k), at(k), conflicts)));
            Value::Object(each.filter(|(_, v)| !v.is_null()).collect())
        }
        (Value::Array(b), Value::Array(m), Value::Array(t)) if t.len() >= b.len() => {
            let of = |list: &[Value], i: usize| list.get(i).cloned().unwrap_or(Value::Null);
            let count = m.len().max(t.len());
            let mut list: Vec<Value> =
                (0..count).map(|i| one(&of(b, i), &of(m, i), &of(t, i), at(&i.to_string()), conflicts)).collect();
            while list.last().is_some_and(Value::is_null) {
                list.pop();
            }
            Value::Array(list)
        }
        _ => {
            conflicts.push(Conflict { path, mine: mine.clone(), theirs: theirs.clone() });
            theirs.clone()
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use serde_json::json;

    #[test]
    fn both_changes_stand_and_a_field_that_both_changed_is_named() {
        let base = json!({"probes": [{"depth": "5", "port": ""}, {"depth": "15", "port": ""}]});
        let mine = json!({"probes": [{"depth": "7", "port": ""}, {"depth": "15", "port": "m15"}]});
        let theirs = json!({"probes": [{"depth": "6", "port": "m05"}, {"depth": "15", "port": ""}, {"depth": "30", "port": ""}]});
        let merged = merge(&base, &mine, &theirs);
        let whole = json!({"probes": [{"depth": "6", "port": "m05"}, {"depth": "15", "port": "m15"}, {"depth": "30", "port": ""}]});
        assert_eq!(merged.draft, whole);
        assert_eq!(
            merged.conflicts,
            [Conflict { path: "probes.0.depth".into(), mine: json!("7"), theirs: json!("6") }]
        );
    }

    #[test]
    fn a_list_that_the_other_made_shorter_stays_so_and_what_was_typed_in_it_is_told() {
        let (base, theirs) = (json!({"rows": ["a", "b"]}), json!({"rows": ["b"]}));
        let merged = merge(&base, &json!({"rows": ["A", "b"]}), &theirs);
        assert_eq!(merged.draft, theirs);
        assert_eq!(merged.conflicts[0].mine, json!(["A", "b"]));
        assert!(merge(&base, &base, &theirs).conflicts.is_empty());
    }

    fn drafts() -> impl Strategy<Value = Value> {
        let text = prop::sample::select(vec!["", "5", "15", "θ"]);
        let rows = prop::collection::vec(text.clone(), 3);
        (text.clone(), text, rows).prop_map(|(a, b, rows)| json!({"a": a, "b": {"c": b}, "rows": rows}))
    }

    proptest! {
        #[test]
        fn nothing_typed_is_lost_unseen(base in drafts(), mine in drafts(), theirs in drafts()) {
            let merged = merge(&base, &mine, &theirs);
            for path in ["/a", "/b/c", "/rows/0", "/rows/1", "/rows/2"] {
                let [b, m, t, got] = [&base, &mine, &theirs, &merged.draft].map(|d| d.pointer(path).cloned());
                let told = merged.conflicts.iter().any(|c| format!("/{}", c.path.replace('.', "/")) == path);
                prop_assert!(got == t || (got == m && t == b), "{path}: {got:?}");
                prop_assert!(m == b || got == m || told, "{path}: mine is gone");
                prop_assert!(t == b || got == t || told, "{path}: theirs is gone");
            }
            prop_assert_eq!(merge(&base, &base, &theirs).draft, theirs.clone());
            prop_assert_eq!(merge(&base, &mine, &base).draft, mine.clone());
            let forgotten = merge_without_base(&mine, &theirs);
            prop_assert_eq!(&forgotten.draft, &theirs);
            prop_assert_eq!(forgotten.conflicts.is_empty(), mine == theirs);
        }
    }
}
