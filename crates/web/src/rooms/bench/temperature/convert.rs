//! From what a thermometer puts out to degrees with their uncertainty, and whether it has come to rest.

use super::{Draft, Pair};
use crate::rooms::bench::sheets::NumberSpec;
use crate::shell::figures::fixed;
use ebrel_core::bench::repeats;
use ebrel_core::planning::Typed;
use ebrel_core::temperature::{
    Converted, ReadingUncertainty, SteinhartHart, Thermocouple, ToleranceClass, platinum_convert,
};
use ebrel_core::units::{Range, ranges, read_number};

/// What the probe's readings are in.
pub const SIGNALS: [(&str, &str); 8] = [
    ("degC", "°C"),
    ("T", "mV of a type T thermocouple"),
    ("K", "mV of a type K thermocouple"),
    ("E", "mV of a type E thermocouple"),
    ("J", "mV of a type J thermocouple"),
    ("pt100", "Ω of platinum, 100 Ω at 0 °C"),
    ("pt1000", "Ω of platinum, 1000 Ω at 0 °C"),
    ("thermistor", "Ω of a thermistor, by three points"),
];

/// Readings of one state that still run further than this are no equilibrium, K.
const DRIFT_K: f64 = 0.1;

/// A row worked out.
pub struct Worked {
    /// Probe and reference, °C.
    pub celsius: Option<(f64, f64)>,
    /// Standard uncertainty of the probe's degrees by its conversion, K; 0 where it gives degrees itself.
    pub u: f64,
    /// What is said, at which field.
    pub says: Option<(&'static str, String)>,
}

/// Usual standard uncertainties of a signal: of a reading in its unit, and of the panel or the points in K.
pub fn usual_u(signal: &str) -> (NumberSpec, NumberSpec) {
    let reading = |unit, value, source| NumberSpec {
        range: Range { name: "what a reading is known to", unit, min: 0.0, max: 1e4 },
        value,
        source,
    };
    let kelvin =
        |name, value, source| NumberSpec { range: Range { name, unit: "K", min: 0.0, max: 5.0 }, value, source };
    let of_class = "class B of IEC 60751 is added to it";
    match signal {
        "pt100" => (reading("Ω", 0.02, "four wires; class B of IEC 60751 is added"), kelvin("", 0.0, of_class)),
        "pt1000" => (reading("Ω", 0.2, "four wires; class B of IEC 60751 is added"), kelvin("", 0.0, of_class)),
        "thermistor" => (
            reading("Ω", 5.0, "a logger's divider"),
            kelvin("what the points are known to", 0.1, "taken in stirred baths"),
        ),
        _ => (
            reading("mV", 0.004, "a logger's fine range"),
            kelvin("what the panel is known to", 0.3, "a panel thermometer under a cover"),
        ),
    }
}

/// The curve through a thermistor's three points, or what is wrong with them.
fn thermistor(draft: &Draft) -> Result<SteinhartHart, String> {
    let mut points = Vec::new();
    for p in &draft.points {
        let (Ok(celsius), Ok(ohm)) = (read_number(&p.celsius), read_number(&p.ohm)) else {
            return Err("A thermistor needs three points of temperature and resistance: cold, room and warm.".into());
        };
        points.push((celsius, ohm));
    }
    let falls = |w: &[(f64, f64)]| (w[0].0 < w[1].0) == (w[0].1 > w[1].1) && w[0].0 != w[1].0;
    match points[..] {
        [a, b, c] if points.iter().all(|p| p.1 > 0.0) && falls(&[a, b]) && falls(&[b, c]) => {
            SteinhartHart::through([a, b, c]).ok_or_else(|| "Two of the three points are one, or too near each other to carry a curve: cold, room and warm, some ten kelvin apart.".into())
        }
        _ => Err(
            "The three points must differ, and the resistance falls as a thermistor warms: are two of them swapped?"
                .into(),
        ),
    }
}

/// Degrees of a probe's reading in its own signal.
fn degrees(draft: &Draft, reading: f64, panel: &Typed) -> Result<Converted, String> {
    let signal = &*draft.signal;
    let (of_signal, of_kelvin) = usual_u(signal);
    let u = ReadingUncertainty { signal: of_signal.of(&draft.u_signal), kelvin: of_kelvin.of(&draft.u_kelvin) };
    if let Some(kind) = Thermocouple::from_code(signal) {
        let panel = read_number(panel).map_err(|_| {
            "A thermocouple needs the temperature of the panel, where its reference junction is.".to_owned()
        })?;
        let (low, high) = kind.range();
        return kind.convert(reading, panel, u).ok_or_else(|| format!("{reading} mV at a panel of {panel} °C lies outside type {signal}, which goes from {low} to {high} °C: is the unit mV, and are the leads the right way round?"));
    }
    let r0 = match signal {
        "pt100" => 100.0,
        "pt1000" => 1000.0,
        "thermistor" => {
            return thermistor(draft)?.convert(reading, u).ok_or_else(|| {
                format!("{reading} Ω is no resistance of this thermistor: a short or an open circuit?")
            });
        }
        _ => {
            let celsius = ranges::TEMPERATURE_C.check(reading).map_err(|e| format!("A {e}: is it in °C?"))?;
            return Ok(Converted { celsius, u: 0.0 });
        }
    };
    platinum_convert(r0, reading, ToleranceClass::B, u).ok_or_else(|| {
        format!(
            "{reading} Ω is no temperature of this platinum, which goes from −200 to 850 °C: a short, an open circuit, or the other nominal value?"
        )
    })
}

/// Works a pair out.
pub fn work(draft: &Draft, pair: &Pair) -> Worked {
    let blank = pair.probe.is_blank() && pair.reference.is_blank();
    let wrong = |field, says: String| Worked { celsius: None, u: 0.0, says: (!blank).then_some((field, says)) };
    let (reading, _) = match repeats(&pair.probe) {
        Ok(read) => read,
        Err(says) => return wrong("probe", says),
    };
    let reference = match read_number(&pair.reference) {
        Ok(value) if (-60.0..=150.0).contains(&value) => value,
        Ok(value) => return wrong("reference", format!("{value} °C is no temperature of a bath here.")),
        Err(says) => return wrong("reference", says),
    };
    match degrees(draft, reading, &pair.panel) {
        Ok(Converted { celsius, u }) => {
            Worked { celsius: Some((celsius, reference)), u, says: drift(draft, pair).map(|says| ("probe", says)) }
        }
        Err(says) => wrong("probe", says),
    }
}

/// Readings that run one way: the probe has not come to rest.
fn drift(draft: &Draft, pair: &Pair) -> Option<String> {
    let each: Vec<f64> = pair.probe.split_whitespace().filter_map(|p| read_number(p).ok()).collect();
    let celsius: Vec<f64> =
        each.iter().filter_map(|r| degrees(draft, *r, &pair.panel).ok()).map(|c| c.celsius).collect();
    let (first, last) = (celsius.first()?, celsius.last()?);
    let one_way = celsius.windows(2).all(|w| w[1] >= w[0]) || celsius.windows(2).all(|w| w[1] <= w[0]);
    let run = last - first;
    (celsius.len() > 2 && one_way && run.abs() > DRIFT_K).then(|| {
        format!(
            "Still running by {} K over these readings: wait until it rests, long metal and black housings longest.",
            fixed(run, 2)
        )
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sheet(signal: &str) -> Draft {
        Draft { signal: signal.into(), ..Draft::default() }
    }

    fn pair(probe: &str, panel: &str, reference: &str) -> Pair {
        Pair { probe: probe.into(), panel: panel.into(), reference: reference.into(), ..Pair::default() }
    }

    #[test]
    fn each_signal_becomes_degrees_with_its_uncertainty() {
        let of = |signal: &str, probe: &str, panel: &str| work(&sheet(signal), &pair(probe, panel, "25"));
        let degrees = of("degC", "25,1", "");
        assert!(degrees.celsius == Some((25.1, 25.0)) && degrees.u == 0.0);
        let couple = of("T", "0.25", "24");
        assert!((couple.celsius.unwrap().0 - 30.119).abs() < 1e-3 && (couple.u - 0.313).abs() < 2e-3);
        let platinum = of("pt100", "110", "");
        assert!((platinum.celsius.unwrap().0 - 25.684).abs() < 1e-3 && platinum.u > 0.2);
        assert!((of("pt1000", "1100", "").celsius.unwrap().0 - 25.684).abs() < 1e-3);
    }

    #[test]
    fn what_cannot_be_a_temperature_is_said_at_its_field() {
        let says = |signal: &str, probe: &str, panel: &str, reference: &str| {
            let worked = work(&sheet(signal), &pair(probe, panel, reference));
            assert_eq!(worked.celsius, None);
            worked.says.unwrap()
        };
        assert_eq!(says("degC", "x", "", "20").0, "probe");
        assert_eq!(says("degC", "20", "", "").0, "reference");
        assert!(says("degC", "20", "", "400").1.contains("no temperature of a bath"));
        assert!(says("K", "0.2", "", "20").1.contains("needs the temperature of the panel"));
        assert!(says("K", "900", "20", "20").1.contains("outside type K"));
        assert!(says("pt100", "0", "", "20").1.contains("a short, an open circuit"));
        assert!(says("thermistor", "10000", "", "20").1.contains("three points"));
        assert!(work(&sheet("degC"), &Pair::default()).says.is_none(), "an empty line wants nothing");
    }

    #[test]
    fn only_readings_that_run_one_way_are_called_running() {
        let running = |probe: &str| work(&sheet("degC"), &pair(probe, "", "20")).says.is_some();
        assert!(running("19.2 19.6 19.8") && running("21 20.6 20.3"));
        assert!(!running("20.1 20.3 20.1"), "a wobble");
        assert!(!running("20.00 20.04 20.08"), "within a tenth");
        assert!(!running("20 21"), "two readings tell no trend");
    }
}
