//! Saving what is typed beside others who type: a form from an old page is merged field by field.

use super::errors::Problem;
use ebrel_core::drafts::{Conflict, merge, merge_without_base};
use ebrel_store::Store;
use ebrel_store::drafts::DraftKind;
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

/// Tries to save against others who save at the same moment.
pub const TRIES: usize = 8;

/// What a page was made of: a document at a revision.
#[derive(Debug, Clone, Copy)]
pub struct At {
    /// The kind of document.
    pub kind: DraftKind,
    pub document: i64,
    /// Its newest revision.
    pub revision: i64,
}

/// What is to be saved.
pub struct Combined<D> {
    pub draft: D,
    /// Fields that somebody else changed meanwhile too; theirs stand.
    pub conflicts: Vec<Conflict>,
}

/// The revision that a sent form was made of.
#[must_use]
pub fn sent_revision(form: &[(String, String)]) -> Option<i64> {
    form.iter().rev().find(|f| f.0 == "revision").and_then(|f| f.1.trim().parse().ok())
}

/// Puts what was typed on a page of revision `sent` into the newest draft. `type_in` puts it into any draft.
///
/// # Errors
/// [`Problem`] if what was typed fits no draft, or the database cannot be read.
pub async fn combine<D>(
    store: &Store,
    at: At,
    sent: Option<i64>,
    newest: &D,
    type_in: impl Fn(&D) -> Result<D, Problem>,
) -> Result<Combined<D>, Problem>
where
    D: Serialize + DeserializeOwned,
{
    let Some(old) = sent.filter(|r| *r < at.revision) else {
        return Ok(Combined { draft: type_in(newest)?, conflicts: Vec::new() });
    };
    let internal = |e: serde_json::Error| Problem::Internal(e.to_string());
    let json = |draft: &D| serde_json::to_value(draft).map_err(internal);
    let found = match store.draft_at(at.kind, at.document, old).await? {
        Some(text) => {
            let base: D = serde_json::from_str(&text).map_err(internal)?;
            merge(&json(&base)?, &json(&type_in(&base)?)?, &json(newest)?)
        }
        // So old that nobody remembers it.
        None => merge_without_base(&json(&type_in(newest)?)?, &json(newest)?),
    };
    let draft = serde_json::from_value(found.draft).map_err(internal)?;
    Ok(Combined { draft, conflicts: found.conflicts })
}

/// Both sides of each conflict, for the person whose text did not go in.
#[must_use]
pub fn in_words(conflicts: &[Conflict]) -> Option<String> {
    const MOST: usize = 6;
    let text = |value: &Value| match value {
        Value::Null => "nothing".to_owned(),
        Value::String(text) if text.trim().is_empty() => "nothing".to_owned(),
        Value::String(text) => format!("“{text}”"),
        Value::Number(number) => format!("“{}”", number.as_f64().unwrap_or(f64::NAN)),
        other => other.to_string(),
    };
    let each: Vec<String> = (conflicts.iter().take(MOST))
        .map(|c| {
            let name = c.path.replace(['.', '_'], " ");
            format!("{name}: you typed {}, {} stands", text(&c.mine), text(&c.theirs))
        })
        .collect();
    let more = conflicts.len().saturating_sub(MOST);
    let more = if more > 0 { format!("; and {more} more") } else { String::new() };
    (!each.is_empty()).then(|| {
        format!(
            "Somebody else changed this meanwhile. {}{more}. All else of yours is kept; type yours again to take it.",
            each.join("; ")
        )
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn both_sides_of_a_conflict_are_told() {
        let conflict = |mine: &str, theirs: &str| Conflict {
            path: "probes.1.depth_cm".into(),
            mine: json!(mine),
            theirs: json!(theirs),
        };
        let said = in_words(&[conflict("15", "20"), conflict("15", "")]).unwrap();
        assert!(said.contains("probes 1 depth cm: you typed “15”, “20” stands"), "{said}");
        assert!(said.contains("nothing stands"));
        assert_eq!(in_words(&[]), None);
        assert!(in_words(&vec![conflict("a", "b"); 9]).unwrap().contains("and 3 more"));
    }
}
