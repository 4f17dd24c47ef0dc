//! Messages of nodes: SenML (RFC 8428) as JSON or CBOR, and plain CSV, to readings of ports.
//!
//! Every record of a message becomes a [`Reading`] or is [`Refused`] with its reason; their numbers add up to the records. A message
//! that cannot be told apart into records at all is a [`MessageError`], and nothing of it is taken.

mod plain;
mod senml;
mod units;

use ebrel_core::units::{Quantity, SpanSeconds, UnixSeconds};
use flate2::read::MultiGzDecoder;
use std::io::Read as _;
use thiserror::Error;

/// The most records of one message.
pub const MOST_RECORDS: usize = 10_000;
/// The largest message as it is sent, bytes: ten thousand records of SenML take about one megabyte.
pub const MOST_SENT: usize = 2 * 1024 * 1024;
/// The largest message once it is unpacked, bytes.
pub const MOST_UNPACKED: usize = 8 * 1024 * 1024;
/// The longest name of a port, characters.
const LONGEST_PORT: usize = 80;
/// No node measured before this: a clock that was never set shows 1970 or 2000 (2001-01-01).
const EARLIEST: UnixSeconds = UnixSeconds(978_307_200);
/// A clock may be ahead by so much before its times are refused.
const AHEAD: SpanSeconds = SpanSeconds::DAY;

/// How a message is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// SenML as JSON.
    SenmlJson,
    /// SenML as CBOR.
    SenmlCbor,
    /// `time,port,quantity,value,unit`, one reading a line.
    Csv,
}

impl Form {
    /// Every form, in the order in which an answer names them.
    pub const ALL: [Self; 3] = [Self::SenmlJson, Self::SenmlCbor, Self::Csv];

    /// Its media type.
    #[must_use]
    pub const fn media_type(self) -> &'static str {
        match self {
            Self::SenmlJson => "application/senml+json",
            Self::SenmlCbor => "application/senml+cbor",
            Self::Csv => "text/csv",
        }
    }

    /// The form of a media type, its parameters put aside; plain JSON and CBOR are taken for SenML.
    #[must_use]
    pub fn of_media_type(text: &str) -> Option<Self> {
        match text.split(';').next()?.trim().to_ascii_lowercase().as_str() {
            "application/senml+json" | "application/json" => Some(Self::SenmlJson),
            "application/senml+cbor" | "application/cbor" => Some(Self::SenmlCbor),
            "text/csv" => Some(Self::Csv),
            _ => None,
        }
    }

    /// The form that bytes without a media type seem to have: an array of JSON or of CBOR begins as no line of names does.
    #[must_use]
    pub fn of_bytes(bytes: &[u8]) -> Self {
        match bytes.iter().find(|b| !b.is_ascii_whitespace()) {
            Some(b'[') => Self::SenmlJson,
            Some(0x80..=0x9f) => Self::SenmlCbor,
            _ => Self::Csv,
        }
    }
}

/// One reading of a port, in the unit in which it is stored.
#[derive(Debug, Clone, PartialEq)]
pub struct Reading {
    /// Which record of the message it was, counted from 1.
    pub record: usize,
    /// When it was measured, to the second.
    pub time: UnixSeconds,
    /// The node's port.
    pub port: String,
    /// What was measured.
    pub quantity: Quantity,
    /// What it read, in `unit`; always finite.
    pub value: f64,
    /// The unit of the quantity; of raw output the one that was sent.
    pub unit: String,
}

/// A record that could not be taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refused {
    /// Which record of the message it was, counted from 1.
    pub record: usize,
    /// Why, as a sentence without its full stop.
    pub reason: String,
}

/// What a message holds.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Message {
    /// Readings in the order of the message.
    pub readings: Vec<Reading>,
    /// Records that could not be taken.
    pub refused: Vec<Refused>,
}

impl Message {
    fn take(&mut self, record: usize, read: Result<Reading, String>) {
        match read {
            Ok(reading) => self.readings.push(reading),
            Err(reason) => self.refused.push(Refused { record, reason }),
        }
    }
}

/// Why nothing of a message can be taken.
#[derive(Debug, Error, PartialEq, Eq)]
pub enum MessageError {
    /// It is not written as it says.
    #[error("the message cannot be read: {0}")]
    Unreadable(String),
    /// It is written by rules of a later time.
    #[error("the message follows version {0} of SenML; versions up to 10 are understood")]
    Version(i64),
    /// Nothing is in it.
    #[error("the message holds no record")]
    Empty,
    /// More bytes than one message may have, once it is unpacked; in MB.
    #[error("the message has more than {0} MB: send it in parts")]
    TooLarge(usize),
    /// More records than one message may hold.
    #[error("the message holds more than {MOST_RECORDS} records: send it in parts")]
    TooMany,
}

/// Takes the packing off a message, if it is a gzip.
///
/// # Errors
/// [`MessageError`] if it ends before its end, is damaged, or unpacks to more than [`MOST_UNPACKED`] bytes.
pub fn unpack(sent: &[u8]) -> Result<Vec<u8>, MessageError> {
    let mut out = Vec::new();
    let read = MultiGzDecoder::new(sent).take(MOST_UNPACKED as u64 + 1).read_to_end(&mut out);
    read.map_err(|e| MessageError::Unreadable(format!("the gzip ends before its end, or is damaged ({e})")))?;
    if out.len() > MOST_UNPACKED { Err(MessageError::TooLarge(MOST_UNPACKED / 1024 / 1024)) } else { Ok(out) }
}

/// Whether bytes begin as a gzip does.
#[must_use]
pub fn is_gzip(bytes: &[u8]) -> bool {
    bytes.starts_with(&[0x1f, 0x8b])
}

/// Reads a message that came at `now`.
///
/// # Errors
/// [`MessageError`] if it cannot be told apart into records.
pub fn read(form: Form, bytes: &[u8], now: UnixSeconds) -> Result<Message, MessageError> {
    let message = match form {
        Form::SenmlJson => senml::read(senml::of_json(bytes)?, now)?,
        Form::SenmlCbor => senml::read(senml::of_cbor(bytes)?, now)?,
        Form::Csv => plain::read(bytes, now)?,
    };
    if message.readings.is_empty() && message.refused.is_empty() { Err(MessageError::Empty) } else { Ok(message) }
}

/// A time at which a node can have measured.
fn possible(time: f64, now: UnixSeconds) -> Result<UnixSeconds, String> {
    if !time.is_finite() || time.abs() > 1e15 {
        return Err("its time is no number of seconds".to_owned());
    }
    let at = UnixSeconds(time.round() as i64);
    if at < EARLIEST {
        return Err(format!("its time is {}: the node's clock was not set", crate::rfc3339(at)));
    }
    if at > now + AHEAD {
        return Err(format!("its time is {}, which is still to come: the node's clock is wrong", crate::rfc3339(at)));
    }
    Ok(at)
}

/// A port as a node names it.
fn port(name: &str) -> Result<String, String> {
    let name = name.trim();
    match name.chars().count() {
        0 => Err("it names no port".to_owned()),
        n if n > LONGEST_PORT => Err(format!("its port has a name of {n} characters; {LONGEST_PORT} are taken")),
        _ if name.chars().any(char::is_control) => {
            Err("its port's name holds characters that cannot be shown".to_owned())
        }
        _ => Ok(name.to_owned()),
    }
}

fn quantity(code: &str) -> Result<Quantity, String> {
    Quantity::from_code(code.trim()).ok_or_else(|| {
        let shown: String = code.chars().take(40).collect();
        format!("“{shown}” is no quantity that Ebrel knows")
    })
}

fn finite(value: f64) -> Result<f64, String> {
    if value.is_finite() { Ok(value) } else { Err(format!("{value} is no value: leave out what was not measured")) }
}
