//! The gateway: parcels of nodes, each a file until it is confirmed.

use super::write_whole;
use std::collections::BTreeSet;
use std::fs::OpenOptions;
use std::io::{Result, Write};
use std::path::{Path, PathBuf};

/// A message of a node that waits to be sent up.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Parcel {
    /// The node that it is of.
    pub node: i64,
    /// What is sent.
    pub message: String,
    number: u64,
}

/// A gateway with its parcels on the disk.
pub struct Gateway {
    dir: PathBuf,
    /// Number and node of each parcel that waits, in order.
    waiting: BTreeSet<(u64, i64)>,
    /// The number of the next parcel.
    next: u64,
}

impl Gateway {
    /// Opens a gateway's directory, or begins one.
    ///
    /// # Errors
    /// If the disk refuses.
    pub fn open(dir: &Path) -> Result<Self> {
        std::fs::create_dir_all(dir.join("refused"))?;
        let mut waiting = BTreeSet::new();
        for entry in std::fs::read_dir(dir)? {
            let name = entry?.file_name();
            let parts = name.to_str().and_then(|n| n.strip_suffix(".csv")).and_then(|n| n.split_once('-'));
            waiting.extend(parts.and_then(|(n, node)| Some((n.parse().ok()?, node.parse().ok()?))));
        }
        let next = waiting.last().map_or(0, |(n, _)| n + 1);
        Ok(Self { dir: dir.to_owned(), waiting, next })
    }

    /// Takes a message of a node in: when this returns it is on the disk.
    ///
    /// # Errors
    /// If the disk refuses.
    pub fn take(&mut self, node: i64, message: &str) -> Result<()> {
        write_whole(&self.path_of(self.next, node), message)?;
        self.waiting.insert((self.next, node));
        self.next += 1;
        Ok(())
    }

    /// How many parcels wait.
    #[must_use]
    pub fn waiting(&self) -> usize {
        self.waiting.len()
    }

    /// The `nth` of the parcels that wait, the oldest first.
    ///
    /// # Errors
    /// If the disk refuses.
    pub fn parcel(&self, nth: usize) -> Result<Option<Parcel>> {
        let Some(&(number, node)) = self.waiting.iter().nth(nth) else { return Ok(None) };
        let message = std::fs::read_to_string(self.path_of(number, node))?;
        Ok(Some(Parcel { node, message, number }))
    }

    /// Notes that a parcel was confirmed, and forgets it.
    ///
    /// # Errors
    /// If the disk refuses.
    pub fn confirmed(&mut self, parcel: &Parcel) -> Result<()> {
        let path = self.path_of(parcel.number, parcel.node);
        let mut log = OpenOptions::new().create(true).append(true).open(self.dir.join("confirmed.log"))?;
        let name = path.file_name().unwrap_or_default().to_string_lossy();
        log.write_all(format!("{name} {} lines\n", parcel.message.lines().count() - 1).as_bytes())?;
        std::fs::remove_file(&path)?;
        self.waiting.remove(&(parcel.number, parcel.node));
        Ok(())
    }

    /// Puts aside a parcel that will never be taken: it lies in `refused`, for a person.
    ///
    /// # Errors
    /// If the disk refuses.
    pub fn refused(&mut self, parcel: &Parcel) -> Result<()> {
        let path = self.path_of(parcel.number, parcel.node);
        std::fs::rename(&path, self.dir.join("refused").join(path.file_name().unwrap_or_default()))?;
        self.waiting.remove(&(parcel.number, parcel.node));
        Ok(())
    }

    fn path_of(&self, number: u64, node: i64) -> PathBuf {
        self.dir.join(format!("{number:08}-{node}.csv"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_parcel_waits_in_its_order_until_it_is_confirmed_also_over_a_restart() {
        let dir = tempfile::tempdir().unwrap();
        let mut gateway = Gateway::open(dir.path()).unwrap();
        ["a\n1\n", "b\n2\n", "c\n3\n"].iter().for_each(|m| gateway.take(7, m).unwrap());
        let mut gateway = {
            drop(gateway);
            Gateway::open(dir.path()).unwrap()
        };
        gateway.take(8, "d\n4\n").unwrap();
        let parcel = |gateway: &Gateway, nth| gateway.parcel(nth).unwrap().unwrap();
        gateway.confirmed(&parcel(&gateway, 1)).unwrap();
        gateway.refused(&parcel(&gateway, 0)).unwrap();
        let left: Vec<_> = (0..2).map(|n| (parcel(&gateway, n).node, parcel(&gateway, n).message)).collect();
        assert_eq!(left, [(7, "c\n3\n".to_owned()), (8, "d\n4\n".to_owned())]);
        assert_eq!((gateway.waiting(), gateway.parcel(2).unwrap()), (2, None));
        assert_eq!(std::fs::read_to_string(dir.path().join("confirmed.log")).unwrap(), "00000001-7.csv 1 lines\n");
        assert!(dir.path().join("refused/00000000-7.csv").is_file());
    }
}
