//! A node: it keeps every record it ever measured, and knows how many the gateway has.

use super::write_whole;
use ebrel_core::units::Quantity;
use std::fs::{File, OpenOptions};
use std::io::{BufRead, BufReader, Error, ErrorKind, Result, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

/// How a node names one of its ports.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PortTold {
    /// The port.
    pub port: String,
    /// What it tells.
    pub quantity: Quantity,
    /// In which unit.
    pub unit: String,
}

/// A record as the node keeps it.
#[derive(Debug, Clone, PartialEq)]
pub struct Kept {
    /// The true time, seconds of UTC: for the stand-in alone, a real node does not know it.
    pub t: i64,
    /// What the node's own clock showed.
    pub shown: i64,
    /// Values of its ports, in their order.
    pub values: Vec<f64>,
}

/// A node with its memory on the disk.
pub struct NodeBox {
    number: i64,
    ports: Vec<PortTold>,
    memory: File,
    handed_path: PathBuf,
    /// Records that the gateway does not have, oldest first.
    waiting: Vec<Kept>,
    handed: usize,
    last: Option<i64>,
}

impl NodeBox {
    /// Opens a node's memory, or begins one. A record that a kill left half written is measured again.
    ///
    /// # Errors
    /// If the disk refuses, or the memory is none of these ports.
    pub fn open(dir: &Path, number: i64, ports: Vec<PortTold>) -> Result<Self> {
        std::fs::create_dir_all(dir)?;
        let mut memory =
            OpenOptions::new().read(true).write(true).create(true).truncate(false).open(memory_of(dir, number))?;
        let (records, whole) = read_memory(&memory, ports.len())?;
        memory.set_len(whole)?;
        memory.seek(SeekFrom::End(0))?;
        let handed_path = dir.join(format!("node-{number}.handed"));
        let handed = match std::fs::read_to_string(&handed_path) {
            Ok(text) => text.trim().parse().map_err(|_| Error::new(ErrorKind::InvalidData, "no count"))?,
            Err(error) if error.kind() == ErrorKind::NotFound => 0,
            Err(error) => return Err(error),
        };
        let last = records.last().map(|r| r.t);
        let waiting = records.into_iter().skip(handed).collect();
        Ok(Self { number, ports, memory, handed_path, waiting, handed, last })
    }

    /// Its number.
    #[must_use]
    pub const fn number(&self) -> i64 {
        self.number
    }

    /// The true time of its last record.
    #[must_use]
    pub const fn last(&self) -> Option<i64> {
        self.last
    }

    /// How many of its records the gateway does not have.
    #[must_use]
    pub fn backlog(&self) -> usize {
        self.waiting.len()
    }

    /// Wakes, measures, and keeps the record.
    ///
    /// # Errors
    /// If the disk refuses.
    pub fn wake(&mut self, record: Kept) -> Result<()> {
        let values: Vec<String> = record.values.iter().map(f64::to_string).collect();
        self.memory.write_all(format!("{} {} {}\n", record.t, record.shown, values.join(",")).as_bytes())?;
        self.memory.sync_data()?;
        self.last = Some(record.t);
        self.waiting.push(record);
        Ok(())
    }

    /// Its oldest records that the gateway does not have, at most so many, as a message; and how many they are.
    #[must_use]
    pub fn message(&self, most: usize) -> Option<(String, usize)> {
        let records = &self.waiting[..self.waiting.len().min(most)];
        let mut text = String::from("time,port,quantity,value,unit\n");
        for record in records {
            for (port, value) in self.ports.iter().zip(&record.values) {
                let (shown, name, quantity, unit) = (record.shown, &port.port, port.quantity.code(), &port.unit);
                text.push_str(&format!("{shown},{name},{quantity},{value},{unit}\n"));
            }
        }
        (!records.is_empty()).then_some((text, records.len()))
    }

    /// Notes that the gateway has the oldest so many.
    ///
    /// # Errors
    /// If the disk refuses.
    pub fn handed(&mut self, records: usize) -> Result<()> {
        write_whole(&self.handed_path, &(self.handed + records).to_string())?;
        self.handed += records;
        self.waiting.drain(..records.min(self.waiting.len()));
        Ok(())
    }

    /// Every record that a node ever kept, in order.
    ///
    /// # Errors
    /// If its memory cannot be read.
    pub fn all_kept(dir: &Path, number: i64, ports: usize) -> Result<Vec<Kept>> {
        Ok(read_memory(&File::open(memory_of(dir, number))?, ports)?.0)
    }
}

fn memory_of(dir: &Path, number: i64) -> PathBuf {
    dir.join(format!("node-{number}.memory"))
}

/// The whole records of a memory, and where the last of them ends.
fn read_memory(file: &File, ports: usize) -> Result<(Vec<Kept>, u64)> {
    let mut records = Vec::new();
    let mut whole = 0;
    let mut reader = BufReader::new(file);
    let mut line = String::new();
    while reader.read_line(&mut line)? > 0 && line.ends_with('\n') {
        let record = record(line.trim_end(), ports).ok_or_else(|| {
            Error::new(ErrorKind::InvalidData, format!("record {} is none of {ports} ports", records.len() + 1))
        })?;
        records.push(record);
        whole += line.len() as u64;
        line.clear();
    }
    Ok((records, whole))
}

fn record(line: &str, ports: usize) -> Option<Kept> {
    let mut parts = line.split(' ');
    let (t, shown) = (parts.next()?.parse().ok()?, parts.next()?.parse().ok()?);
    let values: Option<Vec<f64>> = parts.next()?.split(',').map(|v| v.parse().ok()).collect();
    values.filter(|v| v.len() == ports).map(|values| Kept { t, shown, values })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ports() -> Vec<PortTold> {
        let port = |name: &str, quantity, unit: &str| PortTold { port: name.into(), quantity, unit: unit.into() };
        vec![port("m05", Quantity::RawOutput, "mV"), port("t05", Quantity::SoilTemperature, "degC")]
    }

    fn kept(i: i64) -> Kept {
        Kept { t: i * 900, shown: i * 900 + 3, values: vec![812.5, -0.25 * i as f64] }
    }

    #[test]
    fn what_was_not_handed_on_is_there_after_a_kill_in_the_middle_of_a_record() {
        let dir = tempfile::tempdir().unwrap();
        let mut node = NodeBox::open(dir.path(), 7, ports()).unwrap();
        assert_eq!((node.last(), node.message(5)), (None, None));
        (0..4).for_each(|i| node.wake(kept(i)).unwrap());
        node.handed(1).unwrap();
        drop(node);
        let mut file = OpenOptions::new().append(true).open(dir.path().join("node-7.memory")).unwrap();
        file.write_all(b"3600 3603 812").unwrap();
        let mut node = NodeBox::open(dir.path(), 7, ports()).unwrap();
        assert_eq!((node.last(), node.backlog()), (Some(2700), 3), "half a record is none");
        node.wake(kept(4)).unwrap();
        let (message, records) = node.message(2).unwrap();
        assert_eq!(records, 2);
        assert_eq!(message.lines().nth(2), Some("903,t05,soil_temperature,-0.25,degC"));
        assert_eq!(NodeBox::all_kept(dir.path(), 7, 2).unwrap(), (0..5).map(kept).collect::<Vec<_>>());
        assert!(NodeBox::all_kept(dir.path(), 7, 3).is_err(), "another node's memory");
    }
}
