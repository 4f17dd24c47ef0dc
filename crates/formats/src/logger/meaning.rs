//! What a column may measure, by its name and unit. A suggestion only: a person decides.

use super::column::Column;
use super::months::plain;
use super::units::{Unit, bare, known};
use ebrel_core::units::Quantity;
use std::collections::{BTreeMap, BTreeSet};

/// What a column may be.
#[derive(Debug, Clone, PartialEq)]
pub struct Suggestion {
    /// The quantity; `None`: not a reading (a record number), leave it out.
    pub quantity: Option<Quantity>,
    /// The unit in which it is stored.
    pub unit: String,
    /// Stored value = file's value times this,
    pub factor: f64,
    /// plus this, in the unit that is stored.
    pub plus: f64,
    /// Depth, if the name tells one.
    pub depth_cm: Option<f64>,
}

/// What each part of a name may say, in English, German, French and Spanish, without accents.
const STORAGE: [&str; 10] =
    ["batt", "bat", "volt", "supply", "akku", "spannung", "tension_pile", "pile", "bateria", "vbat"];
const BOX: [&str; 8] = ["panel", "logger", "box", "enclosure", "gehause", "boitier", "caja", "intern"];
const AIR: [&str; 5] = ["air", "luft", "aire", "ambient", "lft"];
const BARE: [&str; 4] = ["bare", "unshielded", "ungeschutzt", "sans abri"];
const SOIL: [&str; 6] = ["soil", "boden", "sol", "suelo", "ground", "erd"];
const TEMPERATURE: [&str; 4] = ["temp", "temperatur", "st", "ts"];
const RAIN: [&str; 10] =
    ["rain", "regen", "precip", "niederschlag", "pluie", "lluvia", "ppt", "pluvio", "pcp", "precipitacion"];
const IRRIGATION: [&str; 5] = ["irrig", "bewasser", "arros", "riego", "drip"];
const HUMID: [&str; 8] = ["relativ", "rh", "relh", "humid", "luftfeucht", "hygro", "hum_rel", "rel. feuchte"];
const WATER: [&str; 18] = [
    "water content",
    "water_content",
    "watercontent",
    "moist",
    "vwc",
    "swc",
    "smc",
    "theta",
    "θ",
    "bodenfeuchte",
    "wassergehalt",
    "feuchte",
    "teneur en eau",
    "humidite",
    "humedad",
    "contenido de agua",
    "bf",
    "wc",
];
const TENSION: [&str; 12] = [
    "tension",
    "potential",
    "potentiel",
    "potencial",
    "saugspannung",
    "matric",
    "matrix",
    "psi",
    "ψ",
    "succion",
    "suction",
    "swp",
];
const CONDUCTIVITY: [&str; 5] = ["conduct", "leitfahig", "ec", "salin", "bulkec"];
const SIGNAL: [&str; 4] = ["rssi", "signal", "dbm", "snr"];
const SPREAD: [&str; 8] = ["std", "stdev", "stddev", "sd", "stderr", "var", "variance", "cv"];
const NUMBER: [&str; 10] = ["rec", "record", "recno", "nr", "no", "index", "id", "#", "serial", "count"];

/// Suggests a meaning for a column called `name` with `unit` (which may be empty).
#[must_use]
pub fn suggest(name: &str, unit: &str) -> Suggestion {
    let name: String = name.chars().map(plain).collect();
    let told = if bare(unit).is_empty() { unit_in_name(&name) } else { bare(unit).to_owned() };
    let known = known(&told);
    let code = known.map_or(told.as_str(), |u| u.code);
    let quantity = quantity(&name, code);
    let depth_cm = depth_in(&name).filter(|_| quantity.is_some_and(Quantity::is_in_soil));
    let (stored, factor, plus) = stored(quantity, code, known);
    Suggestion { quantity, unit: stored, factor, plus, depth_cm }
}

/// As [`suggest`], with what the run of the column adds: a water content above 1 is in per cent, a tension below 0 a potential.
#[must_use]
pub fn suggest_column(column: &Column) -> Suggestion {
    let mut out = suggest(&column.name, &column.unit);
    if let Some(depth) = column.depth_cm.filter(|_| out.quantity.is_some_and(Quantity::is_in_soil)) {
        out.depth_cm = Some(depth).filter(|d| *d >= 0.0);
    }
    let Some((low, high)) = column.range() else { return out };
    let untold = bare(&column.unit).is_empty() && unit_in_name(&column.name).is_empty();
    if out.quantity == Some(Quantity::WaterContent) && untold && high > 1.5 && high <= 100.0 {
        out.factor = 0.01;
    }
    if out.quantity == Some(Quantity::WaterTension) && low < 0.0 && high <= 0.0 {
        out.factor = -out.factor.abs();
    }
    out
}

/// As [`suggest_column`] for all columns of a file: figures that run on from 1 ("vwc1" to "vwc8") count sensors and are no depths.
#[must_use]
pub fn suggest_columns(columns: &[Column]) -> Vec<Suggestion> {
    let mut out: Vec<Suggestion> = columns.iter().map(suggest_column).collect();
    let counted = |c: &Column| -> Option<(String, u32)> {
        let digits = c.name.len() - c.name.trim_end_matches(|c: char| c.is_ascii_digit()).len();
        let (word, number) = c.name.split_at(c.name.len() - digits);
        let close = word.ends_with(char::is_alphabetic) && !number.starts_with('0');
        Some((word.to_owned(), number.parse().ok().filter(|_| close)?))
    };
    let mut words: BTreeMap<String, BTreeSet<u32>> = BTreeMap::new();
    for (word, number) in columns.iter().filter_map(counted) {
        words.entry(word).or_default().insert(number);
    }
    for (suggestion, column) in out.iter_mut().zip(columns) {
        let run =
            counted(column).is_some_and(|(word, _)| words[&word].iter().copied().eq(1..=words[&word].len() as u32));
        if run && column.depth_cm.is_none() {
            suggestion.depth_cm = None;
        }
    }
    out
}

/// The unit in which a quantity is stored, and how the file's values get there.
fn stored(quantity: Option<Quantity>, code: &str, known: Option<Unit>) -> (String, f64, f64) {
    let (factor, plus) = known.map_or((1.0, 0.0), |u| (u.factor, u.plus));
    match quantity {
        Some(Quantity::WaterContent) if code == "%" => ("m3/m3".into(), 0.01, 0.0),
        Some(Quantity::BatteryVoltage) if code == "mV" => ("V".into(), 0.001, 0.0),
        Some(q) if !q.unit().is_empty() => (q.unit().to_owned(), factor, plus),
        _ => (code.to_owned(), factor, plus),
    }
}

fn quantity(name: &str, unit: &str) -> Option<Quantity> {
    let bare_name = name.split(['[', '(']).next().unwrap_or(name).trim();
    let words: Vec<&str> = bare_name.split(|c: char| !c.is_alphabetic()).filter(|w| !w.is_empty()).collect();
    // A short word counts only as a word of its own, or before a figure ("rh", "t 20").
    let has = |list: &[&str]| {
        list.iter().any(|w| if w.chars().count() <= 3 { words.contains(w) } else { bare_name.contains(w) })
    };
    let number = (words.len() == 1 && NUMBER.contains(&words[0]) && unit.is_empty()) || bare_name == "#";
    if has(&SPREAD) || number {
        return None;
    }
    if let Some(q) = Quantity::ALL.iter().find(|q| bare_name.contains(q.code())) {
        return Some(*q);
    }
    let soil_temperature = || (has(&TEMPERATURE) || words.contains(&"t")) && !has(&AIR) && !has(&BOX);
    match unit {
        "mV" | "mV/V" | "counts" | "raw" | "Hz" | "kHz" | "us" | "ohm" | "kohm" if has(&STORAGE) && unit == "mV" => {
            Some(Quantity::BatteryVoltage)
        }
        "mV" | "mV/V" | "counts" | "raw" | "Hz" | "kHz" | "us" | "ohm" | "kohm" => Some(Quantity::RawOutput),
        "V" if has(&STORAGE) || words.first() == Some(&"v") => Some(Quantity::BatteryVoltage),
        "V" => Some(Quantity::RawOutput),
        "m3/m3" => Some(Quantity::WaterContent),
        "kPa" if has(&AIR) || has(&["baro", "druck", "pression", "vpd"]) => None,
        "kPa" => Some(Quantity::WaterTension),
        "dS/m" => Some(Quantity::ElectricalConductivity),
        "dBm" => Some(Quantity::SignalStrength),
        "degC" if has(&BOX) => Some(Quantity::PanelTemperature),
        "degC" if has(&BARE) => Some(Quantity::BareAirTemperature),
        "degC" if has(&AIR) => Some(Quantity::AirTemperature),
        "degC" => Some(Quantity::SoilTemperature),
        "mm" if has(&IRRIGATION) => Some(Quantity::Irrigation),
        "mm" => Some(Quantity::Rain),
        "%" if has(&BOX) => Some(Quantity::EnclosureHumidity),
        "%" if has(&WATER) && has(&SOIL) => Some(Quantity::WaterContent),
        "%" if has(&HUMID) || has(&AIR) => Some(Quantity::RelativeHumidity),
        "%" if has(&WATER) || has(&SOIL) => Some(Quantity::WaterContent),
        "%" if has(&STORAGE) => None,
        "W/m2" | "m/s" | "deg" | "tips" => None,
        _ if has(&RAIN) => Some(Quantity::Rain),
        _ if has(&IRRIGATION) => Some(Quantity::Irrigation),
        _ if has(&STORAGE) && !has(&TENSION) => Some(Quantity::BatteryVoltage),
        _ if has(&SIGNAL) => Some(Quantity::SignalStrength),
        _ if has(&WATER) && has(&SOIL) => Some(Quantity::WaterContent),
        _ if has(&HUMID) => Some(Quantity::RelativeHumidity),
        _ if has(&TENSION) => Some(Quantity::WaterTension),
        _ if has(&CONDUCTIVITY) => Some(Quantity::ElectricalConductivity),
        _ if soil_temperature() && (has(&SOIL) || words.iter().any(|w| w.starts_with("temp"))) => {
            Some(Quantity::SoilTemperature)
        }
        _ if (has(&TEMPERATURE) || words.contains(&"t")) && has(&BOX) => Some(Quantity::PanelTemperature),
        _ if (has(&TEMPERATURE) || words.contains(&"t")) && has(&AIR) => Some(Quantity::AirTemperature),
        _ if has(&WATER) || words.iter().any(|w| w.starts_with("soilm")) => Some(Quantity::WaterContent),
        _ if has(&AIR) => Some(Quantity::AirTemperature),
        _ if soil_temperature() => Some(Quantity::SoilTemperature),
        _ => None,
    }
}

/// A unit that stands within the name: "Boden 5 cm [°C]", "rain_mm".
fn unit_in_name(name: &str) -> String {
    for (open, close) in [('[', ']'), ('(', ')')] {
        for piece in name.split(open).skip(1) {
            if let Some((unit, _)) = piece.split_once(close)
                && known(unit).is_some()
                && unit.trim() != "cm"
            {
                return unit.trim().to_owned();
            }
        }
    }
    let last = name.rsplit(['_', ' ', ',', '/']).next().unwrap_or("");
    let said = [
        "mm", "c", "degc", "degf", "f", "k", "pct", "mv", "v", "kpa", "hpa", "cbar", "mbar", "dbm", "counts", "raw",
        "°c", "°f", "%",
    ];
    if last.len() < name.len() && said.contains(&last) { last.to_owned() } else { String::new() }
}

/// "5 cm", "-10 cm", "m05", "t_15", "Bodenfeuchte 30", "0.3 m": the depth in cm that a name tells. "vwc1" is sensor one.
fn depth_in(name: &str) -> Option<f64> {
    let numbers = numbers_in(name);
    let plausible = |d: f64| (0.0..=500.0).contains(&d).then_some(d);
    for (factor, unit) in [(1.0, "cm"), (0.1, "mm"), (100.0, "m"), (2.54, "in")] {
        let with = |(value, after): &(f64, &str)| {
            let rest = after.trim_start_matches([' ', '_', '.']);
            let word_ends = |r: &str| !r.starts_with(char::is_alphabetic);
            // "3m" may be anything; "0.3 m" is a depth.
            let fits = rest.strip_prefix(unit).is_some_and(word_ends) && (unit != "m" || *value <= 5.0) && unit != "mm";
            fits.then(|| plausible((value.abs() * factor * 1000.0).round() / 1000.0)).flatten()
        };
        if let Some(depth) = numbers.iter().find_map(with) {
            return Some(depth);
        }
    }
    let name = name.split(['[', '(']).next()?.trim_end();
    let numbers = numbers_in(name);
    let (value, after) = numbers.first()?;
    let at = name.find(|c: char| c.is_ascii_digit())?;
    let digits: String = name[at..].chars().take_while(char::is_ascii_digit).collect();
    let before = name[..at].trim_end_matches(['_', '-', ' ', '–', '.']);
    let letters = before.chars().count();
    let apart = before.len() < name[..at].len();
    // A small lone figure close behind a word counts sensors; a larger one, or two figures, tell a depth.
    let counted = !apart && digits.len() == 1 && *value < 5.0;
    let statistic =
        ["_min", "_max", "_mean", "_avg", "_sum", "_tot", " min", " max", " mean", " avg"].contains(&after.trim_end());
    let ends = after.trim().is_empty() || statistic;
    (!counted && ends && letters >= 1 && numbers.len() == 1)
        .then(|| plausible(value.abs()).filter(|d| *d >= 1.0))
        .flatten()
}

/// Each number in a text with what follows it.
fn numbers_in(text: &str) -> Vec<(f64, &str)> {
    let mut out = Vec::new();
    let mut rest = text;
    while let Some(at) = rest.find(|c: char| c.is_ascii_digit()) {
        let from = &rest[at..];
        let mut end = from.find(|c: char| !c.is_ascii_digit()).unwrap_or(from.len());
        if let Some(decimals) = from[end..].strip_prefix(['.', ',']) {
            let n = decimals.bytes().take_while(u8::is_ascii_digit).count();
            end += if n > 0 { 1 + n } else { 0 };
        }
        if let Ok(value) = from[..end].replace(',', ".").parse() {
            out.push((value, &from[end..]));
        }
        rest = &from[end..];
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_the_field_are_understood_in_four_languages() {
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
            ("Bodenfeuchte 30", "Vol.-%", Some(WaterContent), Some(30.0)),
            ("Bodentemp. 5", "°C", Some(SoilTemperature), Some(5.0)),
            ("Niederschlag", "mm", Some(Rain), None),
            ("T soil -10 cm", "", Some(SoilTemperature), Some(10.0)),
            ("SWC_20cm", "", Some(WaterContent), Some(20.0)),
            ("vwc1", "", Some(WaterContent), None),
            ("vwc_30", "", Some(WaterContent), Some(30.0)),
            ("Température du sol 20 cm", "", Some(SoilTemperature), Some(20.0)),
            ("Humidité du sol 20 cm", "%", Some(WaterContent), Some(20.0)),
            ("Pluie", "", Some(Rain), None),
            ("Humedad del suelo (10 cm)", "%", Some(WaterContent), Some(10.0)),
            ("Temp. suelo 0.3 m", "", Some(SoilTemperature), Some(30.0)),
            ("Luftfeuchte", "%", Some(RelativeHumidity), None),
            ("Saugspannung 20", "hPa", Some(WaterTension), Some(20.0)),
            ("ψ 40 cm", "kPa", Some(WaterTension), Some(40.0)),
            ("EC 10", "µS/cm", Some(ElectricalConductivity), Some(10.0)),
            ("soilT_5_min", "degC", Some(SoilTemperature), Some(5.0)),
            ("soilT_5_std", "degC", None, None),
            ("box4 P1 water_content 10 cm", "m3/m3", Some(WaterContent), Some(10.0)),
            ("box4 C1 rain", "mm", Some(Rain), None),
            ("moist20", "m3/m3", Some(WaterContent), Some(20.0)),
            ("t5", "C", Some(SoilTemperature), Some(5.0)),
            ("RSSI", "", Some(SignalStrength), None),
            ("Wind", "m/s", None, None),
            ("", "", None, None),
            ("日本語 5 cm", "degC", Some(SoilTemperature), Some(5.0)),
        ] {
            let got = suggest(name, unit);
            assert_eq!((got.quantity, got.depth_cm), (quantity, depth), "{name}");
        }
    }

    #[test]
    fn nothing_is_suggested_in_a_unit_that_its_quantity_does_not_have() {
        for (name, unit, stored, factor) in [
            ("Bodenfeuchte 30", "Vol.-%", "m3/m3", 0.01),
            ("soil moisture 10", "%", "m3/m3", 0.01),
            ("batt", "mV", "V", 0.001),
            ("rain", "in", "mm", 25.4),
            ("m05", "mV", "mV", 1.0),
            ("air humidity", "%", "%", 1.0),
        ] {
            let got = suggest(name, unit);
            assert_eq!((got.unit.as_str(), got.factor), (stored, factor), "{name}");
        }
        let sensors: Vec<Column> = (1..=8).map(|i| Column::named(format!("vwc{i}"), "m3/m3")).collect();
        assert!(suggest_columns(&sensors).iter().all(|s| s.depth_cm.is_none()), "sensors one to eight");
        let mut percent = Column::named("vwc_30", "");
        percent.take(ebrel_core::units::UnixSeconds(0), 31.5);
        assert_eq!(suggest_column(&percent).factor, 0.01, "a water content of 31.5 is in per cent");
        let mut potential = Column::named("ψ 20 cm", "hPa");
        potential.take(ebrel_core::units::UnixSeconds(0), -330.0);
        assert_eq!(suggest_column(&potential).factor, -0.1, "a potential is a tension below zero");
    }
}
