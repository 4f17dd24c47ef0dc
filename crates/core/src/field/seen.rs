//! The soil as it was seen in the open hole, held against what was planned.

use super::deed::Deed;
use super::log::Log;
use crate::soil::{Horizon, Profile};
use crate::units::format_short;

/// The lower boundary of the deepest horizon seen: where the hole ends within it, the plan's stands.
fn bottom_cm(h: &Horizon, plan: &Horizon, deepest: f64) -> f64 {
    if h.bottom_cm >= deepest { h.bottom_cm.max(plan.bottom_cm) } else { h.bottom_cm }
}

/// Boundaries that differ by less than this are the same, cm: they wave by as much along one face.
const SAME_CM: f64 = 3.0;
/// What typing may leave between the end of one horizon and the beginning of the next, cm.
const TOUCHES_CM: f64 = 0.05;

/// The horizons that a log tells of, from the surface down, as name, boundaries and texture.
#[must_use]
pub fn seen(log: &Log) -> Profile {
    let of = log.stands.iter().filter_map(|e| match &e.deed {
        Deed::Horizon { name, top_cm, bottom_cm, texture } => Some(Horizon {
            top_cm: *top_cm,
            bottom_cm: *bottom_cm,
            name: name.trim().to_owned(),
            texture: texture.trim().to_owned(),
            ..Horizon::default()
        }),
        _ => None,
    });
    Profile::from(of.collect::<Vec<_>>())
}

/// How deep was looked, cm.
fn deepest(seen: &Profile) -> f64 {
    seen.horizons().last().map_or(0.0, |h| h.bottom_cm)
}

/// The soil as it is now taken to be: boundaries, names and textures as seen; density, organic matter and particle sizes from the
/// planned horizon of the same name where its texture is the same, else not known. Below what was opened the plan stands.
///
/// # Errors
/// A sentence, if what was seen leaves a gap, overlaps, or does not begin at the surface.
pub fn as_seen(planned: &Profile, seen: &Profile) -> Result<Profile, String> {
    let (mut under, deepest) = (0.0, deepest(seen));
    let mut horizons: Vec<Horizon> = Vec::new();
    for h in seen.horizons() {
        if (h.top_cm - under).abs() > TOUCHES_CM {
            let [under, top] = [under, h.top_cm].map(format_short);
            return Err(format!(
                "Horizon {} begins at {top} cm, and what lies above it ends at {under} cm: correct one of the two.",
                h.name
            ));
        }
        if h.bottom_cm <= h.top_cm {
            return Err(format!("Horizon {} ends above where it begins: correct it.", h.name));
        }
        under = h.bottom_cm;
        let alike = planned.horizons().iter().find(|p| p.name.eq_ignore_ascii_case(&h.name));
        let alike = alike.filter(|p| h.texture.is_empty() || p.texture.eq_ignore_ascii_case(&h.texture));
        horizons.push(alike.map_or_else(
            || h.clone(),
            |p| Horizon { top_cm: h.top_cm, bottom_cm: bottom_cm(h, p, deepest), name: h.name.clone(), ..p.clone() },
        ));
    }
    if horizons.is_empty() {
        return Ok(planned.clone());
    }
    let under = horizons.last().map_or(under, |h| h.bottom_cm);
    let below = planned.horizons().iter().filter(|p| p.bottom_cm > under + TOUCHES_CM);
    horizons.extend(below.map(|p| Horizon { top_cm: p.top_cm.max(under), ..p.clone() }));
    Ok(Profile::from(horizons))
}

/// What was seen otherwise than planned, a sentence each.
#[must_use]
pub fn differences(planned: &Profile, seen: &Profile) -> Vec<String> {
    let (mut told, deepest) = (Vec::new(), deepest(seen));
    for h in seen.horizons() {
        let Some(plan) = planned.horizons().iter().find(|p| p.name.eq_ignore_ascii_case(&h.name)) else {
            told.push(format!("{} was not in the plan.", h.name));
            continue;
        };
        let bottom = bottom_cm(h, plan, deepest);
        if (plan.bottom_cm - bottom).abs() > SAME_CM {
            let [was, is] = [plan.bottom_cm, bottom].map(format_short);
            told.push(format!("{} goes down to {is} cm, planned {was} cm.", h.name));
        }
        if !h.texture.is_empty() && !plan.texture.is_empty() && !plan.texture.eq_ignore_ascii_case(&h.texture) {
            told.push(format!("{} is {}, planned {}.", h.name, h.texture, plan.texture));
        }
    }
    let met = |p: &&Horizon| !seen.horizons().iter().any(|h| h.name.eq_ignore_ascii_case(&p.name));
    let missing = planned.horizons().iter().filter(|p| p.bottom_cm <= deepest).filter(met);
    told.extend(missing.map(|p| format!("{} was not met.", p.name)));
    told
}

#[cfg(test)]
mod tests {
    use super::*;

    fn horizon(name: &str, texture: &str, (top_cm, bottom_cm): (f64, f64), density: Option<f64>) -> Horizon {
        let (name, texture) = (name.into(), texture.into());
        Horizon { name, texture, top_cm, bottom_cm, bulk_density_g_cm3: density, ..Horizon::default() }
    }

    fn plan() -> Profile {
        Profile::from(vec![
            horizon("A", "silt loam", (0.0, 14.0), Some(1.18)),
            horizon("E", "silt loam", (14.0, 38.0), Some(1.34)),
            horizon("Bt", "silty clay loam", (38.0, 90.0), Some(1.52)),
        ])
    }

    fn of(list: &[(&str, &str, (f64, f64))]) -> Profile {
        Profile::from(list.iter().map(|(n, t, s)| horizon(n, t, *s, None)).collect::<Vec<_>>())
    }

    #[test]
    fn what_was_seen_stands_and_the_plan_goes_on_below() {
        let seen = of(&[("a", "Silt loam", (0.0, 18.0)), ("E", "loam", (18.0, 44.0))]);
        let soil = as_seen(&plan(), &seen).unwrap();
        let told: Vec<_> = soil
            .horizons()
            .iter()
            .map(|h| (h.name.as_str(), h.texture.as_str(), h.top_cm, h.bottom_cm, h.bulk_density_g_cm3))
            .collect();
        assert_eq!(
            told,
            [
                ("a", "silt loam", 0.0, 18.0, Some(1.18)),
                ("E", "loam", 18.0, 44.0, None),
                ("Bt", "silty clay loam", 44.0, 90.0, Some(1.52)),
            ]
        );
        assert_eq!(
            differences(&plan(), &seen),
            [
                "a goes down to 18 cm, planned 14 cm.",
                "E goes down to 44 cm, planned 38 cm.",
                "E is loam, planned silt loam."
            ]
        );
    }

    #[test]
    fn gaps_are_told_and_nothing_seen_changes_nothing() {
        assert_eq!(as_seen(&plan(), &of(&[])).unwrap(), plan());
        for bad in [
            of(&[("A", "", (2.0, 10.0))]),
            of(&[("A", "", (0.0, 10.0)), ("E", "", (12.0, 30.0))]),
            of(&[("A", "", (0.0, 10.0)), ("E", "", (8.0, 30.0))]),
            of(&[("A", "", (0.0, 0.0))]),
        ] {
            assert!(as_seen(&plan(), &bad).unwrap_err().contains("correct"), "{bad:?}");
        }
        let skipped = of(&[("A", "", (0.0, 14.0)), ("Bt", "", (14.0, 60.0))]);
        assert_eq!(differences(&plan(), &skipped), ["E was not met."], "the hole ended in Bt");
        let deeper = of(&[("A", "", (0.0, 14.0)), ("E", "", (14.0, 38.0)), ("Bt", "", (38.0, 99.0))]);
        assert_eq!(differences(&plan(), &deeper), ["Bt goes down to 99 cm, planned 90 cm."]);
    }

    #[test]
    fn a_profile_seen_as_planned_is_the_plan() {
        let same = of(&[("A", "silt loam", (0.0, 14.0)), ("E", "silt loam", (14.0, 38.0))]);
        assert_eq!(as_seen(&plan(), &same).unwrap(), plan());
        assert!(differences(&plan(), &same).is_empty());
    }
}
