//! Fields of a run that hold more than one number.

use crate::sampling::{Drying, drying};
use crate::units::read_number;

/// Mean of the readings in a field, with the standard uncertainty of that mean if there are several.
///
/// Numbers parted by blanks or semicolons are repeats, unless the blanks part thousands: groups of three digits that, as
/// numbers of their own, would not be of one size.
pub fn repeats(text: &str) -> Result<(f64, f64), String> {
    let parts: Vec<&str> = text.split([' ', '\t', ';', '\u{a0}', '\u{202f}']).filter(|p| !p.is_empty()).collect();
    if parts.len() < 2 || (!text.contains(';') && parts_thousands(&parts)) {
        return read_number(text).map(|v| (v, 0.0));
    }
    let all: Vec<f64> = parts.iter().map(|p| read_number(p)).collect::<Result<_, _>>()?;
    let n = all.len() as f64;
    let mean = all.iter().sum::<f64>() / n;
    let sd = (all.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / (n - 1.0)).sqrt();
    Ok((mean, sd / n.sqrt()))
}

/// Whether blanks part the thousands of one number: `1 012`, `12 345.6`.
fn parts_thousands(parts: &[&str]) -> bool {
    let digits = |p: &str| p.chars().all(|c| c.is_ascii_digit());
    let (first, last) = (parts[0].trim_start_matches(['-', '−']), parts[parts.len() - 1]);
    let whole = last.split(['.', ',']).next().unwrap_or(last);
    let grouped = digits(first) && (1..=3).contains(&first.len()) && !first.starts_with('0');
    let grouped = grouped && parts[1..parts.len() - 1].iter().chain([&whole]).all(|p| digits(p) && p.len() == 3);
    let size = |p: &str| read_number(p).unwrap_or(0.0);
    grouped && parts.iter().any(|p| (size(p) / size(first) - 1.0).abs() > 0.5)
}

/// The last of one or several weighings out of the oven, and what they say together.
pub struct DryMass {
    /// The last weighing, g.
    pub gross_g: f64,
    /// Whether the tin is dry.
    pub drying: Drying,
}

/// Reads the weighings of one tin, in the order in which they were made, parted by blanks; a blank within one number parts
/// thousands only where the groups are no weighings of their own.
pub fn dry_mass(text: &str, tare_g: f64) -> Result<DryMass, String> {
    let parts: Vec<&str> = text.split([' ', '\t', ';', '\u{a0}', '\u{202f}']).filter(|p| !p.is_empty()).collect();
    let all: Vec<f64> = if parts.len() < 2 || parts_thousands(&parts) {
        vec![read_number(text)?]
    } else {
        parts.iter().map(|p| read_number(p)).collect::<Result<_, _>>()?
    };
    let gross_g = all.last().copied().unwrap_or(f64::NAN);
    Ok(DryMass { gross_g, drying: drying(&all, tare_g) })
}

/// What density cores from the field say.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct FieldDensity {
    /// Mean bulk density, g/cm³.
    pub mean: f64,
    /// Standard deviation among the cores, from two on.
    pub sd: Option<f64>,
    /// How many cores.
    pub n: usize,
}

/// Mean bulk density of cores typed one a line as tare; dry mass; volume, and the standard deviation among them.
///
/// `None` where nothing was typed; an error names the line.
pub fn field_density(text: &str) -> Option<Result<FieldDensity, String>> {
    let mut densities = Vec::new();
    for (i, line) in text.lines().enumerate().filter(|(_, l)| !l.trim().is_empty()) {
        let cells: Vec<&str> = line.split(['\t', ';']).map(str::trim).filter(|c| !c.is_empty()).collect();
        let numbers: Result<Vec<f64>, String> = cells.iter().map(|c| read_number(c)).collect();
        let density = match numbers.as_deref() {
            Ok([tare, dry, volume]) if *volume > 0.0 && dry > tare => (dry - tare) / volume,
            Ok([_, _, _]) => {
                return Some(Err(format!("Line {}: the dry mass must pass the tare, and the volume 0.", i + 1)));
            }
            Ok(_) => return Some(Err(format!("Line {}: tare; dry mass; volume, three numbers.", i + 1))),
            Err(says) => return Some(Err(format!("Line {}: {says}", i + 1))),
        };
        if !(0.05..2.2).contains(&density) {
            return Some(Err(format!(
                "Line {}: {density:.2} g/cm³ is no density of soil: are masses in g and the volume in cm³?",
                i + 1
            )));
        }
        densities.push(density);
    }
    let n = densities.len();
    let mean = densities.iter().sum::<f64>() / n.max(1) as f64;
    let squares = densities.iter().map(|d| (d - mean).powi(2)).sum::<f64>();
    let sd = (n > 1).then(|| (squares / (n as f64 - 1.0)).sqrt());
    (n > 0).then_some(Ok(FieldDensity { mean, sd, n }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn repeats_are_averaged_and_blanks_may_part_thousands() {
        assert_eq!(repeats("1\u{a0}012"), Ok((1012.0, 0.0)), "blanks part thousands");
        let (mean, u) = repeats("912.1 912.5; 911.9").unwrap();
        assert!((mean - 912.166_667).abs() < 1e-5 && (u - 0.176_4).abs() < 1e-3);
    }

    #[test]
    fn weighings_out_of_the_oven_follow_each_other() {
        let once = dry_mass("1\u{a0}171,3", 50.0).unwrap();
        assert!(once.gross_g == 1171.3 && once.drying == Drying::Once, "a blank parts thousands here");
        let twice = dry_mass("174.0 171.3", 50.0).unwrap();
        assert!(twice.gross_g == 171.3 && matches!(twice.drying, Drying::Losing { .. }));
        assert!(dry_mass("174.0 x", 50.0).is_err());
    }

    #[test]
    fn density_cores_give_their_mean_and_spread() {
        let FieldDensity { mean, sd, n } = field_density("40; 170; 100\n41\t173\t100\n\n42;170;100").unwrap().unwrap();
        assert!((mean - 1.3).abs() < 1e-12 && (sd.unwrap() - 0.02).abs() < 1e-12 && n == 3);
        assert_eq!(field_density(" \n"), None);
        assert!(field_density("40;170").unwrap().unwrap_err().contains("Line 1: tare; dry mass; volume"));
        assert!(field_density("0,04;0,17;100").unwrap().unwrap_err().contains("no density of soil"));
        assert!(field_density("170;40;100").unwrap().unwrap_err().contains("must pass the tare"));
    }
}
