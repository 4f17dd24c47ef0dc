//! Plain CSV: `time,port,quantity,value,unit`, a reading a line.

use super::units::{Stored, of_words};
use super::{MOST_RECORDS, Message, MessageError, Reading, finite, port, possible, quantity};
use ebrel_core::units::UnixSeconds;
use serde::Deserialize;

#[derive(Deserialize)]
struct Line {
    time: String,
    port: String,
    quantity: String,
    value: String,
    #[serde(default)]
    unit: String,
}

pub(super) fn read(bytes: &[u8], now: UnixSeconds) -> Result<Message, MessageError> {
    let unreadable =
        |e: csv::Error| MessageError::Unreadable(format!("{e}; its first line names time,port,quantity,value,unit"));
    let text = std::str::from_utf8(bytes).map_err(|_| MessageError::Unreadable("it is not in UTF-8".to_owned()))?;
    let mut reader =
        csv::ReaderBuilder::new().trim(csv::Trim::All).from_reader(text.trim_start_matches('\u{feff}').as_bytes());
    let head = reader.headers().map_err(unreadable)?.clone();
    if let Some(missing) =
        ["time", "port", "quantity", "value", "unit"].into_iter().find(|n| !head.iter().any(|h| h == *n))
    {
        let says = format!("its first line names no column “{missing}”: it should be time,port,quantity,value,unit");
        return if bytes.iter().all(u8::is_ascii_whitespace) {
            Err(MessageError::Empty)
        } else {
            Err(MessageError::Unreadable(says))
        };
    }
    let mut message = Message::default();
    for (i, line) in reader.deserialize::<Line>().enumerate() {
        if i == MOST_RECORDS {
            return Err(MessageError::TooMany);
        }
        let line = line.map_err(|e| format!("its line cannot be read ({e})"));
        message.take(i + 1, line.and_then(|line| of_line(i + 1, &line, now)));
    }
    Ok(message)
}

fn of_line(record: usize, line: &Line, now: UnixSeconds) -> Result<Reading, String> {
    let seconds = match crate::parse_rfc3339(&line.time) {
        Some(at) => Some(at.0 as f64),
        None => line.time.parse::<f64>().ok(),
    };
    let shown = || line.time.chars().take(40).collect::<String>();
    let seconds = seconds.ok_or_else(|| {
        format!("“{}” is no time: write it as 2026-06-22T08:30:00Z or as seconds since 1970", shown())
    })?;
    let time = possible(seconds, now)?;
    let (port, quantity) = (port(&line.port)?, quantity(&line.quantity)?);
    let value = line.value.parse::<f64>().map_err(|_| {
        format!("“{}” is no number, with a point for its decimals", line.value.chars().take(40).collect::<String>())
    })?;
    let Stored { value, unit } = of_words(quantity, finite(value)?, &line.unit)?;
    Ok(Reading { record, time, port, quantity, value, unit })
}

#[cfg(test)]
mod tests {
    use super::*;
    use ebrel_core::units::Quantity;

    const NOW: UnixSeconds = UnixSeconds(1_790_000_000);

    #[test]
    fn each_line_is_a_reading_or_is_told() {
        let text = "\u{feff}time,port,quantity,value,unit\n\
            2026-06-22T08:30:00Z,A1,raw_output,812.5,mV\n\
            1782117000,θ port,water_tension,330,hPa\n\
            1970-01-01T00:10:00Z,A1,raw_output,1,mV\n\
            2096-01-01T00:00:00Z,A1,raw_output,1,mV\n\
            2026-06-22T08:30:00Z,A1,raw_output,NaN,mV\n\
            2026-06-22T08:30:00Z,A1,raw_output,inf,mV\n\
            2026-06-22T08:30:00Z,A1,raw_output,\"8,5\",mV\n\
            2026-06-22T08:30:00Z,,raw_output,8,mV\n\
            2026-06-22T08:30:00Z,A1,mood,8,mV\n\
            2026-06-22T08:30:00Z,A1,soil_temperature,8,mV\n\
            yesterday,A1,raw_output,8,mV\n\
            2026-06-22T08:30:00Z,A1\n";
        let message = read(text.as_bytes(), NOW).unwrap();
        let got: Vec<_> = message
            .readings
            .iter()
            .map(|r| (r.record, r.port.as_str(), r.quantity, r.value, r.unit.as_str()))
            .collect();
        assert_eq!(
            got,
            [(1, "A1", Quantity::RawOutput, 812.5, "mV"), (2, "θ port", Quantity::WaterTension, 33.0, "kPa")]
        );
        let why: Vec<_> = message.refused.iter().map(|r| (r.record, r.reason.as_str())).collect();
        for ((record, reason), expected) in why.iter().zip([
            "clock was not set",
            "still to come",
            "NaN is no value",
            "inf is no value",
            "“8,5” is no number",
            "names no port",
            "“mood” is no quantity",
            "no unit of soil temperature",
            "“yesterday” is no time",
            "line cannot be read",
        ]) {
            assert!(reason.contains(expected), "{record}: {reason}");
        }
        assert_eq!(why.len() + got.len(), 12, "every line is one of both");
    }

    #[test]
    fn what_is_no_such_file_is_told_as_a_whole() {
        assert_eq!(read(b"", NOW), Err(MessageError::Empty));
        assert!(read(b"time,port\n1,2\n", NOW).unwrap_err().to_string().contains("names no column “quantity”"));
        assert!(read(b"\xff\xfe", NOW).unwrap_err().to_string().contains("UTF-8"));
        let head = "time,port,quantity,value,unit\n";
        let lines = |n: usize| head.to_owned() + &"1782117000,A1,raw_output,1,mV\n".repeat(n);
        assert_eq!(read(lines(MOST_RECORDS).as_bytes(), NOW).unwrap().readings.len(), MOST_RECORDS);
        assert_eq!(read(lines(MOST_RECORDS + 1).as_bytes(), NOW), Err(MessageError::TooMany));
    }
}
