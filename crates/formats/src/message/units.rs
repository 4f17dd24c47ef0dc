//! Units of messages: symbols of SenML's registries, and those that people write.

use crate::logger::units::known as known_unit;
use ebrel_core::units::Quantity;

/// A value in the unit in which its quantity is stored.
#[derive(Debug, PartialEq)]
pub(super) struct Stored {
    pub value: f64,
    pub unit: String,
}

/// Symbols of SenML (RFC 8428, section 12.1; RFC 8798) as the words that `known_unit` knows, with a factor. A ratio is a part of
/// one: its meaning depends on the quantity.
const SYMBOLS: [(&str, &str, f64); 15] = [
    ("Cel", "degC", 1.0),
    ("K", "K", 1.0),
    ("%RH", "%", 1.0),
    ("V", "V", 1.0),
    ("mV", "mV", 1.0),
    ("Pa", "kPa", 1e-3),
    ("hPa", "hPa", 1.0),
    ("kPa", "kPa", 1.0),
    ("S/m", "S/m", 1.0),
    ("m", "mm", 1000.0),
    ("mm", "mm", 1.0),
    ("dBm", "dBm", 1.0),
    ("count", "counts", 1.0),
    ("Ohm", "ohm", 1.0),
    ("Hz", "Hz", 1.0),
];

/// A value of SenML.
pub(super) fn of_senml(quantity: Quantity, value: f64, symbol: &str) -> Result<Stored, String> {
    let parts = match symbol {
        "/" => Some(1.0),
        "/100" | "%" => Some(0.01),
        "/1000" => Some(0.001),
        _ => None,
    };
    match (quantity, parts) {
        (Quantity::WaterContent, Some(part)) => return plain(quantity, value * part),
        (Quantity::RelativeHumidity | Quantity::EnclosureHumidity, Some(part)) => {
            return plain(quantity, value * part * 100.0);
        }
        _ => {}
    }
    match SYMBOLS.iter().find(|s| s.0 == symbol) {
        Some((_, words, factor)) => of_words(quantity, value * factor, words),
        None if symbol.is_empty() => Err(no_unit(quantity)),
        None => Err(misfit(quantity, symbol)),
    }
}

/// A value in a unit as people write it.
pub(super) fn of_words(quantity: Quantity, value: f64, words: &str) -> Result<Stored, String> {
    if words.trim().is_empty() {
        return Err(no_unit(quantity));
    }
    let Some(unit) = known_unit(words) else {
        // Raw output has the unit of its maker.
        let own = words.trim();
        return if quantity == Quantity::RawOutput && own.chars().count() <= 20 && !own.chars().any(char::is_control) {
            Ok(Stored { value, unit: own.to_owned() })
        } else {
            Err(misfit(quantity, words))
        };
    };
    if quantity != Quantity::RawOutput && unit.code != quantity.unit() {
        return Err(misfit(quantity, words));
    }
    Ok(Stored { value: value * unit.factor + unit.plus, unit: unit.code.to_owned() })
}

fn plain(quantity: Quantity, value: f64) -> Result<Stored, String> {
    Ok(Stored { value, unit: quantity.unit().to_owned() })
}

fn no_unit(quantity: Quantity) -> String {
    format!("it has no unit: {} comes with one", quantity.words())
}

fn misfit(quantity: Quantity, unit: &str) -> String {
    let shown: String = unit.chars().take(20).collect();
    match quantity.unit() {
        "" => format!("“{shown}” is no unit of {}", quantity.words()),
        own => format!("“{shown}” is no unit of {}, which is stored in {own}", quantity.words()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn symbols_of_the_registry_become_the_units_of_the_record() {
        for (quantity, value, symbol, stored, unit) in [
            (Quantity::SoilTemperature, 285.15, "K", 12.0, "degC"),
            (Quantity::SoilTemperature, 12.5, "Cel", 12.5, "degC"),
            (Quantity::WaterContent, 0.25, "/", 0.25, "m3/m3"),
            (Quantity::WaterContent, 25.0, "/100", 0.25, "m3/m3"),
            (Quantity::RelativeHumidity, 0.9, "/", 90.0, "%"),
            (Quantity::RelativeHumidity, 90.0, "%RH", 90.0, "%"),
            (Quantity::WaterTension, 33_000.0, "Pa", 33.0, "kPa"),
            (Quantity::WaterTension, 330.0, "hPa", 33.0, "kPa"),
            (Quantity::ElectricalConductivity, 0.12, "S/m", 1.2, "dS/m"),
            (Quantity::Rain, 0.0002, "m", 0.2, "mm"),
            (Quantity::BatteryVoltage, 3.6, "V", 3.6, "V"),
            (Quantity::SignalStrength, -97.0, "dBm", -97.0, "dBm"),
            (Quantity::RawOutput, 812.0, "mV", 812.0, "mV"),
            (Quantity::RawOutput, 2450.0, "count", 2450.0, "counts"),
        ] {
            let got = of_senml(quantity, value, symbol).unwrap();
            assert!((got.value - stored).abs() < 1e-9 && got.unit == unit, "{symbol}: {got:?}");
        }
    }

    #[test]
    fn a_unit_that_does_not_fit_is_told_with_the_one_that_would() {
        let told = |quantity, symbol| of_senml(quantity, 1.0, symbol).unwrap_err();
        assert_eq!(told(Quantity::SoilTemperature, "V"), "“V” is no unit of soil temperature, which is stored in degC");
        assert_eq!(told(Quantity::SoilTemperature, "/"), "“/” is no unit of soil temperature, which is stored in degC");
        assert_eq!(told(Quantity::WaterContent, ""), "it has no unit: water content comes with one");
        assert!(told(Quantity::RawOutput, "furlong").contains("no unit of moisture probe"));
        assert_eq!(
            of_words(Quantity::RawOutput, 3.0, "ticks").unwrap().unit,
            "ticks",
            "its maker's own, in plain text"
        );
        assert!(of_words(Quantity::RawOutput, 3.0, &"x".repeat(5000)).is_err());
        assert!(of_words(Quantity::BatteryVoltage, 3.0, "mV").is_err(), "a thousand times too much");
    }
}
