//! Units as people write them, and how each becomes the unit of the record package.

/// A unit as a file writes it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Unit {
    /// The unit of the record package that it becomes, or the one that a raw output keeps.
    pub code: &'static str,
    /// Stored value = file's value times this,
    pub factor: f64,
    /// plus this, in the unit that is stored.
    pub plus: f64,
}

const fn unit(code: &'static str, factor: f64, plus: f64) -> Unit {
    Unit { code, factor, plus }
}

const fn same(code: &'static str) -> Unit {
    unit(code, 1.0, 0.0)
}

/// 1 inch = 25.4 mm; 1 psi = 6.894757 kPa; °F and K as their scales are defined.
const UNITS: [(&[&str], Unit); 34] = [
    (
        &["°c", "º c", "ºc", "degc", "deg c", "deg_c", "degreec", "degreesc", "c", "celsius", "gradc", "grad c"],
        same("degC"),
    ),
    (&["°f", "ºf", "degf", "deg f", "deg_f", "f", "fahrenheit"], unit("degC", 5.0 / 9.0, -160.0 / 9.0)),
    (&["k", "kelvin"], unit("degC", 1.0, -273.15)),
    (&["m³/m³", "m3/m3", "m^3/m^3", "cm3/cm3", "cm³/cm³", "m3 m-3", "m³ m⁻³", "m3.m-3", "v/v"], same("m3/m3")),
    (
        &["vol.-%", "vol-%", "vol%", "vol.%", "vol %", "vol. %", "%vol", "% vol", "% v/v", "%v/v", "%vwc", "% vwc"],
        unit("m3/m3", 0.01, 0.0),
    ),
    (&["kpa", "cbar", "cb", "centibar"], same("kPa")),
    (&["hpa", "mbar", "mb"], unit("kPa", 0.1, 0.0)),
    (&["mpa"], unit("kPa", 1000.0, 0.0)),
    (&["bar"], unit("kPa", 100.0, 0.0)),
    (&["psi"], unit("kPa", 6.894_757, 0.0)),
    (&["ds/m", "ms/cm", "ds m-1"], same("dS/m")),
    (&["us/cm", "µs/cm", "μs/cm"], unit("dS/m", 0.001, 0.0)),
    (&["ms/m"], unit("dS/m", 0.01, 0.0)),
    (&["s/m"], unit("dS/m", 10.0, 0.0)),
    (&["mm", "l/m2", "l/m²", "millimeter", "millimetre"], same("mm")),
    (&["in", "inch", "inches", "″"], unit("mm", 25.4, 0.0)),
    (&["cm"], unit("mm", 10.0, 0.0)),
    (&["v", "volt", "volts", "vdc"], same("V")),
    (&["mv", "millivolt", "millivolts"], same("mV")),
    (&["mv/v"], same("mV/V")),
    (&["counts", "count", "cnts", "adc", "digits"], same("counts")),
    (&["raw"], same("raw")),
    (&["hz"], same("Hz")),
    (&["khz"], same("kHz")),
    (&["us", "µs", "μs", "usec"], same("us")),
    (&["ohm", "ohms", "ω"], same("ohm")),
    (&["kohm", "kohms", "kω"], same("kohm")),
    (&["dbm", "db"], same("dBm")),
    (&["%", "pct", "percent", "prozent", "pourcent", "por ciento"], same("%")),
    (&["%rh", "% rh", "rh%", "rh %", "%rf", "%hr"], same("%")),
    (&["w/m2", "w/m²", "w m-2"], same("W/m2")),
    (&["m/s", "km/h"], same("m/s")),
    (&["deg", "°", "degrees"], same("deg")),
    (&["tips", "tip"], same("tips")),
];

/// The unit that a text names, if it is a known one. Brackets around it do not matter.
#[must_use]
pub fn known(text: &str) -> Option<Unit> {
    let plain = bare(text).to_lowercase();
    UNITS.iter().find(|(spellings, _)| spellings.contains(&plain.as_str())).map(|(_, unit)| *unit)
}

/// A unit without the brackets and blanks around it.
pub(super) fn bare(text: &str) -> &str {
    text.trim().trim_matches(['[', ']', '(', ')', '{', '}', '<', '>']).trim()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn units_become_those_of_the_record() {
        for (text, value, code, stored) in [
            ("Vol.-%", 48.6, "m3/m3", 0.486),
            ("°F", 50.0, "degC", 10.0),
            ("[°F]", 32.0, "degC", 0.0),
            ("K", 273.15, "degC", 0.0),
            ("inches", 2.0, "mm", 50.8),
            ("hPa", 330.0, "kPa", 33.0),
            ("mbar", 1.0, "kPa", 0.1),
            ("cbar", 12.0, "kPa", 12.0),
            ("µS/cm", 1500.0, "dS/m", 1.5),
            ("(m³/m³)", 0.3, "m3/m3", 0.3),
            ("mV/V", 300.0, "mV/V", 300.0),
        ] {
            let unit = known(text).unwrap();
            assert_eq!(unit.code, code, "{text}");
            assert!((value * unit.factor + unit.plus - stored).abs() < 1e-9, "{text}");
        }
        assert!(known("").is_none() && known("time").is_none() && known("Avg").is_none());
    }
}
