//! What a column may measure, by its name and unit. A suggestion only: a person decides.

use ebrel_core::units::Quantity;

/// What a column may be.
#[derive(Debug, Clone, PartialEq)]
pub struct Suggestion {
    /// The quantity; `None`: not a reading (a record number), leave it out.
    pub quantity: Option<Quantity>,
    /// The unit as the record package writes it.
    pub unit: String,
    /// Depth, if the name tells one.
    pub depth_cm: Option<f64>,
}

/// Suggests a meaning for a column called `name` with `unit` (which may be empty).
#[must_use]
pub fn suggest(name: &str, unit: &str) -> Suggestion {
    let lower = name.to_lowercase();
    let unit = tidy_unit(if unit.is_empty() { unit_in_name(&lower) } else { unit });
    let has = |words: &[&str]| words.iter().any(|w| lower.contains(w));
    let depth_cm = depth_in(&lower);
    let air = has(&["air", "luft"]);
    let quantity = match unit.as_str() {
        "mV" | "counts" | "raw" => Some(Quantity::RawOutput),
        "V" if has(&["bat", "volt", "supply"]) => Some(Quantity::BatteryVoltage),
        "V" => Some(Quantity::RawOutput),
        "m3/m3" => Some(Quantity::WaterContent),
        "kPa" => Some(Quantity::WaterTension),
        "dS/m" => Some(Quantity::ElectricalConductivity),
        "dBm" => Some(Quantity::SignalStrength),
        "degC" if has(&["panel", "logger", "box"]) => Some(Quantity::PanelTemperature),
        "degC" if has(&["bare", "unshielded"]) => Some(Quantity::BareAirTemperature),
        "degC" if air => Some(Quantity::AirTemperature),
        "degC" => Some(Quantity::SoilTemperature),
        "mm" if has(&["irrig"]) => Some(Quantity::Irrigation),
        "mm" => Some(Quantity::Rain),
        "%" if has(&["box", "enclosure"]) => Some(Quantity::EnclosureHumidity),
        "%" if has(&["hum", "rh"]) || air => Some(Quantity::RelativeHumidity),
        _ if has(&["rain", "regen", "precip"]) => Some(Quantity::Rain),
        _ if has(&["bat"]) => Some(Quantity::BatteryVoltage),
        _ if has(&["humid"]) => Some(Quantity::RelativeHumidity),
        _ if has(&["water content", "moist", "vwc", "theta"]) => Some(Quantity::WaterContent),
        _ if air => Some(Quantity::AirTemperature),
        _ if has(&["temp"]) => Some(Quantity::SoilTemperature),
        _ => None,
    };
    let unit = match (unit.is_empty(), quantity) {
        (true, Some(q)) => q.unit().to_owned(),
        _ => unit,
    };
    Suggestion { quantity, unit, depth_cm: depth_cm.filter(|_| quantity.is_some_and(Quantity::is_in_soil)) }
}

/// Units as people write them, in the spelling of the record package.
fn tidy_unit(unit: &str) -> String {
    let plain = unit.trim().trim_matches(['[', ']', '(', ')']);
    match plain.to_lowercase().as_str() {
        "°c" | "degc" | "deg c" | "c" | "celsius" => "degC".into(),
        "m³/m³" | "m3/m3" | "m^3/m^3" | "cm3/cm3" => "m3/m3".into(),
        "mv" => "mV".into(),
        "v" | "volt" | "volts" => "V".into(),
        "kpa" | "cbar" => "kPa".into(),
        "ds/m" | "ms/cm" => "dS/m".into(),
        "dbm" => "dBm".into(),
        "pct" | "percent" | "%" => "%".into(),
        _ => plain.to_owned(),
    }
}

/// A unit that stands within the name: "Boden 5 cm [°C]", "rain_mm".
fn unit_in_name(name: &str) -> &str {
    for (open, close) in [('[', ']'), ('(', ')')] {
        if let Some((_, rest)) = name.split_once(open)
            && let Some((unit, _)) = rest.split_once(close)
        {
            return unit;
        }
    }
    let last = name.rsplit(['_', ' ']).next().unwrap_or("");
    let known = ["mm", "c", "degc", "pct", "mv", "v", "kpa", "cbar", "dbm"];
    if last.len() < name.len() && known.contains(&last) { last } else { "" }
}

/// "5 cm", "m05", "t_15": the depth that a name tells.
fn depth_in(name: &str) -> Option<f64> {
    let before_unit = name.find("cm").map(|i| name[..i].trim_end_matches([' ', '_']));
    if let Some(before) = before_unit {
        let start = before.rfind(|c: char| !(c.is_ascii_digit() || c == '.'));
        let digits =
            start.map_or(before, |i| before[i..].trim_start_matches(|c: char| !(c.is_ascii_digit() || c == '.')));
        return digits.parse().ok();
    }
    let name = name.split(['[', '(']).next()?.trim();
    let digits = name.find(|c: char| c.is_ascii_digit())?;
    let (letters, rest) = name.split_at(digits);
    let end = rest.find(|c: char| !c.is_ascii_digit()).unwrap_or(rest.len());
    let short = letters.trim_end_matches(['_', '-', ' ']);
    let plausible = rest[end..].is_empty() && (1..=4).contains(&short.chars().count());
    plausible.then(|| rest[..end].parse().ok()).flatten().filter(|d| (1.0..=500.0).contains(d))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_the_field_are_understood() {
        use Quantity::*;
        for (name, unit, quantity, depth) in [
            ("m05", "mV", Some(RawOutput), Some(5.0)),
            ("t60", "degC", Some(SoilTemperature), Some(60.0)),
            ("batt", "V", Some(BatteryVoltage), None),
            ("rain", "mm", Some(Rain), None),
            ("rec", "", None, None),
            ("m05 [mV]", "", Some(RawOutput), Some(5.0)),
            ("Feuchte 15 cm [mV]", "", Some(RawOutput), Some(15.0)),
            ("Boden 5 cm [°C]", "", Some(SoilTemperature), Some(5.0)),
            ("rain_mm", "", Some(Rain), None),
            ("air_C", "", Some(AirTemperature), None),
            ("humidity_pct", "", Some(RelativeHumidity), None),
            ("θ5 cm", "m3/m3", Some(WaterContent), Some(5.0)),
            ("θ", "m3/m3", Some(WaterContent), None),
            ("Tiefe–15cm", "mV", Some(RawOutput), Some(15.0)),
            ("P1 water content", "m3/m3", Some(WaterContent), None),
        ] {
            let got = suggest(name, unit);
            assert_eq!((got.quantity, got.depth_cm), (quantity, depth), "{name}");
        }
    }
}
