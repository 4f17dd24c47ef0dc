//! The gateway: parcels of nodes, each a file until it is confirmed.

use super::write_whole;
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
    path: PathBuf,
}

/// A gateway with its parcels on the disk.
pub struct Gateway {
    dir: PathBuf,
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
        let mut gateway = Self { dir: dir.to_owned(), next: 0 };
        gateway.next = gateway.numbers()?.last().map_or(0, |(n, _)| n + 1);
        Ok(gateway)
    }

    /// Takes a message of a node in: when this returns it is on the disk.
    ///
    /// # Errors
    /// If the disk refuses.
    pub fn take(&mut self, node: i64, message: &str) -> Result<()> {
        write_whole(&self.dir.join(format!("{:08}-{node}.csv", self.next)), message)?;
        self.next += 1;
        Ok(())
    }

    /// How many parcels wait.
    ///
    /// # Errors
    /// If the directory cannot be read.
    pub fn waiting(&self) -> Result<usize> {
        Ok(self.numbers()?.len())
    }

    /// The `nth` of the parcels that wait, the oldest first.
    ///
    /// # Errors
    /// If the disk refuses.
    pub fn parcel(&self, nth: usize) -> Result<Option<Parcel>> {
        let Some((number, node)) = self.numbers()?.get(nth).copied() else { return Ok(None) };
        let path = self.dir.join(format!("{number:08}-{node}.csv"));
        Ok(Some(Parcel { node, message: std::fs::read_to_string(&path)?, path }))
    }

    /// Notes that a parcel was confirmed, and forgets it.
    ///
    /// # Errors
    /// If the disk refuses.
    pub fn confirmed(&self, parcel: &Parcel) -> Result<()> {
        let mut log = OpenOptions::new().create(true).append(true).open(self.dir.join("confirmed.log"))?;
        let name = parcel.path.file_name().unwrap_or_default().to_string_lossy();
        log.write_all(format!("{name} {} lines\n", parcel.message.lines().count() - 1).as_bytes())?;
        std::fs::remove_file(&parcel.path)
    }

    /// Puts aside a parcel that will never be taken: it lies in `refused`, for a person.
    ///
    /// # Errors
    /// If the disk refuses.
    pub fn refused(&self, parcel: &Parcel) -> Result<()> {
        std::fs::rename(&parcel.path, self.dir.join("refused").join(parcel.path.file_name().unwrap_or_default()))
    }

    /// Number and node of each parcel, in order.
    fn numbers(&self) -> Result<Vec<(u64, i64)>> {
        let mut all = Vec::new();
        for entry in std::fs::read_dir(&self.dir)? {
            let name = entry?.file_name();
            let parts = name.to_str().and_then(|n| n.strip_suffix(".csv")).and_then(|n| n.split_once('-'));
            all.extend(parts.and_then(|(n, node)| Some((n.parse().ok()?, node.parse().ok()?))));
        }
        all.sort_unstable();
        Ok(all)
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
        assert_eq!((gateway.waiting().unwrap(), gateway.parcel(2).unwrap()), (2, None));
        assert_eq!(std::fs::read_to_string(dir.path().join("confirmed.log")).unwrap(), "00000001-7.csv 1 lines\n");
        assert!(dir.path().join("refused/00000000-7.csv").is_file());
    }
}
