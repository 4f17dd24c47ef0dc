//! SenML (RFC 8428): records with base fields, relative times, names that hold port and quantity.
//!
//! The full name of a record (its base name and its own) ends with `port/quantity`; whatever stands before the last colon names the
//! sender and is left to its key: `urn:dev:mac:0024befffe804ff1:A1/raw_output`.

use super::units::{Stored, of_senml};
use super::{MOST_RECORDS, Message, MessageError, Reading, finite, port, possible, quantity};
use ciborium::Value as Cbor;
use ebrel_core::units::UnixSeconds;
use serde_json::Value as Json;
use std::collections::BTreeMap;

/// A value of a field, as far as SenML has such.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Field {
    Number(f64),
    Text(String),
    Other,
}

/// A record's fields by their names in JSON.
pub(super) type Record = BTreeMap<String, Field>;

/// Names of fields by their labels in CBOR (RFC 8428, section 6).
const LABELS: [(i64, &str); 15] = [
    (-1, "bver"),
    (-2, "bn"),
    (-3, "bt"),
    (-4, "bu"),
    (-5, "bv"),
    (-6, "bs"),
    (0, "n"),
    (1, "u"),
    (2, "v"),
    (3, "vs"),
    (4, "vb"),
    (5, "s"),
    (6, "t"),
    (7, "ut"),
    (8, "vd"),
];

/// The version that RFC 8428 defines.
const VERSION: f64 = 10.0;
/// Times below this are relative to now (section 4.5.3), s.
const ABSOLUTE_FROM: f64 = 268_435_456.0;

pub(super) fn of_json(bytes: &[u8]) -> Result<Vec<Record>, MessageError> {
    let json: Json =
        serde_json::from_slice(bytes).map_err(|e| MessageError::Unreadable(format!("it is no JSON ({e})")))?;
    let Json::Array(all) = json else { return Err(no_array()) };
    let record = |value: Json| {
        let Json::Object(fields) = value else { return Err(no_record()) };
        let field = |value: Json| match value {
            Json::Number(n) => n.as_f64().map_or(Field::Other, Field::Number),
            Json::String(text) => Field::Text(text),
            _ => Field::Other,
        };
        Ok(fields.into_iter().map(|(name, value)| (name, field(value))).collect())
    };
    all.into_iter().map(record).collect()
}

pub(super) fn of_cbor(bytes: &[u8]) -> Result<Vec<Record>, MessageError> {
    let mut rest = bytes;
    let cbor: Cbor =
        ciborium::from_reader(&mut rest).map_err(|e| MessageError::Unreadable(format!("it is no CBOR ({e})")))?;
    if !rest.is_empty() {
        return Err(MessageError::Unreadable(format!("{} bytes follow its end", rest.len())));
    }
    let Cbor::Array(all) = cbor else { return Err(no_array()) };
    let record = |value: Cbor| {
        let Cbor::Map(fields) = value else { return Err(no_record()) };
        fields.into_iter().map(|(label, value)| Ok((name_of(&label)?, of_cbor_value(value)))).collect()
    };
    all.into_iter().map(record).collect()
}

fn name_of(label: &Cbor) -> Result<String, MessageError> {
    match label {
        Cbor::Text(name) => Ok(name.clone()),
        Cbor::Integer(label) => {
            let label = i128::from(*label);
            let known = LABELS.iter().find(|l| i128::from(l.0) == label);
            // One that nobody defined yet: as a name of its own, so that it is passed over as in JSON.
            Ok(known.map_or_else(|| label.to_string(), |l| l.1.to_owned()))
        }
        _ => Err(MessageError::Unreadable("a field is named by neither a number nor a text".to_owned())),
    }
}

fn of_cbor_value(value: Cbor) -> Field {
    match value {
        Cbor::Integer(n) => Field::Number(i128::from(n) as f64),
        Cbor::Float(n) => Field::Number(n),
        Cbor::Text(text) => Field::Text(text),
        _ => Field::Other,
    }
}

fn no_array() -> MessageError {
    MessageError::Unreadable("SenML is an array of records".to_owned())
}

fn no_record() -> MessageError {
    MessageError::Unreadable("a record of SenML is a map of fields".to_owned())
}

/// What the records so far say for those that follow.
#[derive(Default)]
struct Base {
    name: String,
    time: f64,
    unit: String,
    value: f64,
}

/// Resolves records: base fields hold until another of their kind, and a record of nothing but base fields is no reading.
pub(super) fn read(records: Vec<Record>, now: UnixSeconds) -> Result<Message, MessageError> {
    if records.len() > MOST_RECORDS {
        return Err(MessageError::TooMany);
    }
    let mut base = Base::default();
    let mut message = Message::default();
    for (i, record) in records.iter().enumerate() {
        if let Some(version) = record.get("bver") {
            match version {
                Field::Number(version) if *version <= VERSION => {}
                Field::Number(version) => return Err(MessageError::Version(*version as i64)),
                _ => return Err(MessageError::Unreadable("its version (bver) is no number".to_owned())),
            }
        }
        let read = base.take(record).and_then(|()| match of_record(i + 1, record, &base, now)? {
            Some(reading) => Ok(Some(reading)),
            None => Ok(None),
        });
        match read {
            Ok(None) => {}
            Ok(Some(reading)) => message.take(i + 1, Ok(reading)),
            Err(reason) => message.take(i + 1, Err(reason)),
        }
    }
    Ok(message)
}

fn number(record: &Record, name: &str) -> Result<Option<f64>, String> {
    match record.get(name) {
        None => Ok(None),
        Some(Field::Number(n)) => Ok(Some(*n)),
        Some(_) => Err(format!("its field {name} is no number")),
    }
}

fn text<'r>(record: &'r Record, name: &str) -> Result<Option<&'r str>, String> {
    match record.get(name) {
        None => Ok(None),
        Some(Field::Text(text)) => Ok(Some(text)),
        Some(_) => Err(format!("its field {name} is no text")),
    }
}

impl Base {
    fn take(&mut self, record: &Record) -> Result<(), String> {
        if let Some(name) = text(record, "bn")? {
            name.clone_into(&mut self.name);
        }
        if let Some(time) = number(record, "bt")? {
            self.time = time;
        }
        if let Some(unit) = text(record, "bu")? {
            unit.clone_into(&mut self.unit);
        }
        if let Some(value) = number(record, "bv")? {
            self.value = value;
        }
        Ok(())
    }
}

/// A record's reading; `None` where it holds base fields alone.
fn of_record(i: usize, record: &Record, base: &Base, now: UnixSeconds) -> Result<Option<Reading>, String> {
    // A field that must be understood ends with an underscore (section 4.4).
    if let Some(field) = record.keys().find(|k| k.ends_with('_')) {
        return Err(format!("its field {field} must be understood, and is not"));
    }
    let Some(value) = number(record, "v")? else {
        return match ["vs", "vb", "vd", "s", "n", "t", "u"].into_iter().find(|f| record.contains_key(*f)) {
            Some(field @ ("vs" | "vb" | "vd")) => Err(format!("its value is a {field}; only numbers (v) are readings")),
            Some("s") => Err("it holds a sum (s) without a value (v)".to_owned()),
            Some(_) => Err("it holds no value (v)".to_owned()),
            None => Ok(None),
        };
    };
    let name = format!("{}{}", base.name, text(record, "n")?.unwrap_or_default());
    let own = name.rsplit(':').next().unwrap_or(&name);
    let Some((at, of)) = own.rsplit_once('/') else {
        let shown: String = name.chars().take(60).collect();
        return Err(format!("its name “{shown}” does not end with port/quantity, like A1/raw_output"));
    };
    let (port, quantity) = (port(at)?, quantity(of)?);
    let seconds = base.time + number(record, "t")?.unwrap_or(0.0);
    let seconds = if seconds < ABSOLUTE_FROM { now.0 as f64 + seconds } else { seconds };
    let time = possible(seconds, now)?;
    let symbol = text(record, "u")?.unwrap_or(&base.unit);
    let Stored { value, unit } = of_senml(quantity, finite(base.value + value)?, symbol)?;
    Ok(Some(Reading { record: i, time, port, quantity, value, unit }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::message::{Form, read};
    use ebrel_core::units::Quantity;
    use proptest::prelude::*;

    const NOW: UnixSeconds = UnixSeconds(1_790_000_000);

    fn json(text: &str) -> Message {
        read(Form::SenmlJson, text.as_bytes(), NOW).unwrap()
    }

    fn why(record: &str) -> String {
        let message = json(&format!("[{record}]"));
        assert!(message.readings.is_empty() && message.refused.len() == 1, "{message:?}");
        message.refused[0].reason.clone()
    }

    #[test]
    fn base_fields_hold_for_what_follows_and_times_are_relative_to_them_or_to_now() {
        let message = json(
            r#"[{"bn": "urn:dev:ow:10e2073a01080063:", "bt": 1789999000, "bu": "Cel", "bver": 10},
                {"n": "A1/soil_temperature", "v": 12.5},
                {"n": "A1/soil_temperature", "v": 12.6, "t": 900},
                {"n": "A1/raw_output", "u": "mV", "v": 812, "t": -60.4},
                {"bn": "", "bt": 0, "bv": 1, "n": "batt/battery_voltage", "u": "V", "v": 2.5, "t": -30}]"#,
        );
        assert!(message.refused.is_empty(), "{:?}", message.refused);
        let got: Vec<_> =
            message.readings.iter().map(|r| (r.record, r.time.0, r.port.as_str(), r.quantity, r.value)).collect();
        assert_eq!(
            got,
            [
                (2, 1_789_999_000, "A1", Quantity::SoilTemperature, 12.5),
                (3, 1_789_999_900, "A1", Quantity::SoilTemperature, 12.6),
                (4, 1_789_998_940, "A1", Quantity::RawOutput, 812.0),
                (5, 1_789_999_970, "batt", Quantity::BatteryVoltage, 3.5),
            ]
        );
    }

    #[test]
    fn a_record_that_is_no_reading_is_told_and_the_others_are_taken() {
        for (record, reason) in [
            (r#"{"n": "A1/raw_output", "vs": "wet", "t": 1789999000}"#, "only numbers (v)"),
            (r#"{"n": "A1/raw_output", "s": 3}"#, "a sum (s)"),
            (r#"{"n": "A1/raw_output"}"#, "holds no value"),
            (r#"{"n": "A1", "v": 1}"#, "does not end with port/quantity"),
            (r#"{"v": 1}"#, "does not end with port/quantity"),
            (r#"{"n": "/raw_output", "v": 1}"#, "names no port"),
            (r#"{"n": "A1/mood", "v": 1}"#, "is no quantity"),
            (r#"{"n": "A1/raw_output", "v": 1}"#, "has no unit"),
            (r#"{"n": "A1/raw_output", "u": "mV", "v": "1"}"#, "field v is no number"),
            (r#"{"n": "A1/raw_output", "u": "mV", "v": 1, "danger_": 1}"#, "must be understood"),
            (r#"{"n": "A1/raw_output", "u": "mV", "v": 1, "t": 300000000}"#, "clock was not set"),
            (r#"{"n": "A1/raw_output", "u": "mV", "v": 1, "t": 3976000000}"#, "still to come"),
            (r#"{"n": "A1/raw_output", "u": "mV", "v": 1, "bt": "now"}"#, "field bt is no number"),
        ] {
            assert!(why(record).contains(reason), "{record}: {}", why(record));
        }
        let long = format!(r#"{{"n": "{}/raw_output", "u": "mV", "v": 1}}"#, "x".repeat(5000));
        assert!(why(&long).contains("5000 characters"));
    }

    #[test]
    fn what_is_no_senml_is_told_as_a_whole() {
        let error = |form, bytes: &[u8]| read(form, bytes, NOW).unwrap_err().to_string();
        assert!(error(Form::SenmlJson, b"{}").contains("array of records"));
        assert!(error(Form::SenmlJson, b"[1]").contains("map of fields"));
        assert!(error(Form::SenmlJson, b"[{\"n\":").contains("no JSON"));
        assert!(error(Form::SenmlJson, b"[]").contains("no record"));
        assert!(error(Form::SenmlJson, b"[{\"bver\": 11}]").contains("version 11"));
        assert!(error(Form::SenmlJson, b"[{\"bver\": \"x\"}]").contains("no number"));
        assert!(error(Form::SenmlCbor, b"").contains("no CBOR"));
        // An array, a text and a byte string that announce 2^63 elements.
        for head in [0x9b_u8, 0x7b, 0x5b, 0xbb] {
            let bytes = [[head].as_slice(), &(1_u64 << 63).to_be_bytes(), b"abc"].concat();
            assert!(error(Form::SenmlCbor, &bytes).contains("no CBOR"), "{head:x}");
        }
        let deep = [0x81_u8; 100_000];
        assert!(error(Form::SenmlCbor, &deep).contains("no CBOR"));
        assert!(error(Form::SenmlJson, &[b'['; 100_000]).contains("no JSON"));
        let mut two = Vec::new();
        ciborium::into_writer(&Cbor::Array(vec![]), &mut two).unwrap();
        two.push(0);
        assert!(error(Form::SenmlCbor, &two).contains("1 bytes follow"));
        let many = vec![Record::new(); MOST_RECORDS + 1];
        assert_eq!(super::read(many, NOW), Err(MessageError::TooMany));
    }

    #[test]
    fn not_a_number_and_infinities_of_cbor_are_no_values() {
        for value in [f64::NAN, f64::INFINITY, f64::NEG_INFINITY] {
            let field = |label: i64, value: Cbor| (Cbor::Integer(label.into()), value);
            let record = Cbor::Map(vec![
                field(0, Cbor::Text("A1/raw_output".into())),
                field(1, Cbor::Text("mV".into())),
                field(2, Cbor::Float(value)),
            ]);
            let mut bytes = Vec::new();
            ciborium::into_writer(&Cbor::Array(vec![record]), &mut bytes).unwrap();
            let message = read(Form::SenmlCbor, &bytes, NOW).unwrap();
            assert!(message.refused[0].reason.contains("is no value"), "{message:?}");
        }
    }

    proptest! {
        /// The same records as JSON and as CBOR are the same message, by labels or by names.
        #[test]
        fn json_and_cbor_say_the_same(records in prop::collection::vec((0..4usize, -5000..5000i64, -1e6..1e6f64, any::<bool>()), 1..40)) {
            let names = ["A1/raw_output", "θ:B2/soil_temperature", "x", "batt/battery_voltage"];
            let units = ["mV", "Cel", "V", "V"];
            let mut as_json = Vec::new();
            let mut as_cbor = Vec::new();
            for (which, t, v, labelled) in records {
                as_json.push(serde_json::json!({"n": names[which], "u": units[which], "t": t, "v": v}));
                let label = |name: &str| {
                    let label = LABELS.iter().find(|l| l.1 == name).map_or(0, |l| l.0);
                    if labelled { Cbor::Integer(label.into()) } else { Cbor::Text(name.into()) }
                };
                as_cbor.push(Cbor::Map(vec![
                    (label("n"), Cbor::Text(names[which].into())),
                    (label("u"), Cbor::Text(units[which].into())),
                    (label("t"), Cbor::Integer(t.into())),
                    (label("v"), Cbor::Float(v)),
                ]));
            }
            let mut bytes = Vec::new();
            ciborium::into_writer(&Cbor::Array(as_cbor), &mut bytes).unwrap();
            let json = serde_json::to_vec(&as_json).unwrap();
            let (a, b) = (read(Form::SenmlJson, &json, NOW).unwrap(), read(Form::SenmlCbor, &bytes, NOW).unwrap());
            prop_assert_eq!(a.readings.len() + a.refused.len(), as_json.len());
            prop_assert_eq!(a, b);
        }

        /// Whatever comes, it is read or refused.
        #[test]
        fn noise_breaks_nothing(bytes in prop::collection::vec(any::<u8>(), 0..400)) {
            for form in Form::ALL {
                let _either = read(form, &bytes, NOW);
            }
        }
    }
}
