//! From a sent form to a changed draft: each field's name is its path in the draft's JSON.

use super::errors::Problem;
use ebrel_core::planning::Figure;
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

/// The longest text of one field, characters.
const LONGEST: usize = 2000;
/// The most probes, horizons, candidates or tables of one plan.
pub const MOST: usize = 64;

/// The draft with the form's fields put in, and what changed in words; `None` if nothing did.
///
/// # Errors
/// [`Problem`] if the form does not fit a plan.
pub fn apply<D>(draft: &D, form: &[(String, String)]) -> Result<(D, Option<String>), Problem>
where
    D: Serialize + DeserializeOwned + PartialEq,
{
    let internal =
        |e: serde_json::Error| Problem::Refused(format!("This form does not fit a plan ({e}). Reload the page."));
    let mut json = serde_json::to_value(draft).map_err(internal)?;
    for (path, text) in form {
        let text = text.trim();
        let length = text.chars().count();
        if length > LONGEST {
            return Err(Problem::Refused(format!(
                "{} has {length} characters; {LONGEST} fit. Shorten it and send it again: nothing was cut.",
                one_in_words(path)
            )));
        }
        put(&mut json, path, text);
    }
    let changed: D = serde_json::from_value(json).map_err(internal)?;
    let words = changes(draft, &changed);
    Ok((changed, words))
}

/// What differs between two drafts, in words; `None` if nothing does.
pub fn changes<D: Serialize + PartialEq>(before: &D, after: &D) -> Option<String> {
    (before != after).then(|| {
        let json = |draft: &D| serde_json::to_value(draft).unwrap_or_default();
        let mut paths = Vec::new();
        differences(&json(before), &json(after), String::new(), &mut paths);
        in_words(&paths)
    })
}

/// Puts a text at a path. Maps take new keys; lists do not grow, and unknown fields are passed over: they belong to the
/// form, not to the draft.
fn put(json: &mut Value, path: &str, text: &str) {
    let mut at = json;
    for part in path.split('.') {
        at = match at {
            Value::Array(list) => match part.parse::<usize>().ok().and_then(|i| list.get_mut(i)) {
                Some(item) => item,
                None => return,
            },
            Value::Object(map) if map.contains_key(part) || is_open_map(path, part) => {
                map.entry(part).or_insert(Value::Null)
            }
            _ => return,
        };
    }
    if !matches!(at, Value::Array(_) | Value::Object(_)) {
        *at = Value::String(text.to_owned());
    }
}

/// Whether `part` is a key of one of the draft's maps.
fn is_open_map(path: &str, part: &str) -> bool {
    let parent = path.rsplit_once('.').map_or("", |(parent, _)| parent);
    let map = parent.rsplit('.').next().unwrap_or("");
    path.ends_with(part)
        && ["figures", "choices", "ticks", "scores", "notes", "cleared", "keep", "quantities"].contains(&map)
}

/// Paths at which two drafts differ.
fn differences(a: &Value, b: &Value, path: String, out: &mut Vec<String>) {
    let join = |key: &str| if path.is_empty() { key.to_owned() } else { format!("{path}.{key}") };
    match (a, b) {
        (Value::Object(x), Value::Object(y)) => {
            let keys: std::collections::BTreeSet<&String> = x.keys().chain(y.keys()).collect();
            for key in keys {
                let (old, new) = (x.get(key).unwrap_or(&Value::Null), y.get(key).unwrap_or(&Value::Null));
                differences(old, new, join(key), out);
            }
        }
        (Value::Array(x), Value::Array(y)) if x.len() == y.len() => {
            for (i, (old, new)) in x.iter().zip(y).enumerate() {
                differences(old, new, join(&i.to_string()), out);
            }
        }
        (old, new) if old != new => out.push(path),
        _ => {}
    }
}

/// Paths as people say them: "probe 2: depth".
fn in_words(paths: &[String]) -> String {
    let mut words: Vec<String> = paths.iter().take(4).map(|p| one_in_words(p)).collect();
    words.dedup();
    if paths.len() > 4 {
        words.push(format!("and {} more", paths.len() - 4));
    }
    words.join(", ")
}

fn one_in_words(path: &str) -> String {
    let parts: Vec<&str> = path.split('.').collect();
    let tidy = |name: &str| {
        let name =
            name.trim_end_matches("_cm").trim_end_matches("_pct").trim_end_matches("_m").trim_end_matches("_min");
        name.replace(['_', ':'], " ")
    };
    match parts[..] {
        [list, number, field, ..] if number.parse::<usize>().is_ok() => {
            let number = number.parse::<usize>().unwrap_or(0) + 1;
            let one = match list {
                "probes" => "probe",
                "horizons" => "horizon",
                "candidates" => "candidate",
                "biases" => "bias",
                "tables" => "table",
                other => other,
            };
            format!("{one} {number}: {}", tidy(field))
        }
        ["figures", code] => Figure::ALL
            .iter()
            .map(|f| f.spec())
            .find(|f| f.code == code)
            .map_or_else(|| tidy(code), |f| f.range.name.to_owned()),
        ["choices" | "ticks", name] => tidy(name),
        _ => tidy(path),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ebrel_core::planning::Draft;

    fn form(fields: &[(&str, &str)]) -> Vec<(String, String)> {
        fields.iter().map(|(a, b)| ((*a).to_owned(), (*b).to_owned())).collect()
    }

    #[test]
    fn fields_find_their_place_and_the_change_is_said() {
        let draft: Draft = serde_json::from_str(r#"{"probes": [{"depth_cm": 5}, {"depth_cm": 15}]}"#).unwrap();
        let sent = form(&[
            ("token", "x"),
            ("probes.1.depth_cm", "20"),
            ("figures.roots_cm", "6o"),
            ("probes.7.depth_cm", "9"),
        ]);
        let (changed, words) = apply(&draft, &sent).unwrap();
        assert_eq!(&*changed.probes[1].depth_cm, "20");
        assert_eq!(changed.figure("roots_cm"), "6o", "nothing typed is lost");
        assert_eq!((changed.probes.len(), words.as_deref()), (2, Some("depth of the roots, probe 2: depth")));
        assert_eq!(apply(&changed, &sent).unwrap().1, None, "the same form again changes nothing");
    }

    #[test]
    fn a_tampered_form_does_no_harm() {
        let draft: Draft = serde_json::from_str(r#"{"probes": [{"depth_cm": 5}]}"#).unwrap();
        let sent =
            form(&[("probes", "gone"), ("probes.0", "gone"), ("figures", "gone"), ("nowhere.at.all", "x"), ("", "y")]);
        assert_eq!(apply(&draft, &sent).unwrap().0, draft);
    }
}
