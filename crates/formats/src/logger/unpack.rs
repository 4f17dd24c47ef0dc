//! Archives, workbooks and folders: the files in them, each as text of its own.

use super::text::MOST_BYTES;
use calamine::{Data, Reader as _, open_workbook_auto_from_rs};
use std::fs::File;
use std::io::{self, BufReader, Cursor, Read, Seek, Write};
use std::path::{Path, PathBuf};
use thiserror::Error;

/// Why an archive or a workbook cannot be unpacked.
#[derive(Debug, Error)]
pub enum UnpackError {
    /// The archive is damaged.
    #[error("the archive cannot be opened ({0}): copy it once more")]
    Zip(#[from] zip::result::ZipError),
    /// The workbook is damaged, or of a kind that is not read.
    #[error("the workbook cannot be opened ({0}): save it as .xlsx or .ods, or its sheets as CSV")]
    Workbook(#[from] calamine::Error),
    /// It unpacks to too much.
    #[error("it unpacks to more than 4 GB: unpack it yourself, and give its files one by one")]
    TooLarge,
    /// More files than anybody has.
    #[error("it holds more than {MOST_MEMBERS} files: give them in parts")]
    TooMany,
    /// It is a record package, whose tables belong together.
    #[error(
        "it is a record package, and no logger's file: bring it in whole, from its study's first page or by `ebrel bring`"
    )]
    Package,
    /// The file went away, or the disk fails.
    #[error("the file cannot be read ({0})")]
    Disk(#[from] io::Error),
}

/// Files that an archive or folder may hold.
pub const MOST_MEMBERS: usize = 2000;

/// A file, or one that was within it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Member {
    /// Its name: of the file itself, or behind the archive's a slash and its own.
    pub name: String,
    /// Where it lies as text (or as gzip).
    pub path: PathBuf,
}

/// What was found in a file or folder.
#[derive(Debug, Default)]
pub struct Unpacked {
    /// The files, in order of their names.
    pub members: Vec<Member>,
    /// Names of what could not be opened, each with the reason; the others are not touched by it.
    pub refused: Vec<(String, UnpackError)>,
}

/// The files in a file or folder. A plain file is its only member; those of archives and workbooks are written into `into`, also those of
/// one archive within another.
#[must_use]
pub fn unpack(path: &Path, name: &str, into: &Path) -> Unpacked {
    let mut unpacker = Unpacker { into, out: Unpacked::default(), written: 0, left: MOST_BYTES };
    unpacker.take(path, name, Within::default());
    let mut out = unpacker.out;
    let has = |table: &str| out.members.iter().any(|m| m.name.rsplit('/').next() == Some(table));
    if has("channels.csv") && has("readings.csv") {
        out.members.clear();
        out.refused.push((name.to_owned(), UnpackError::Package));
    }
    out
}

/// How deep something lies.
#[derive(Debug, Clone, Copy, Default)]
struct Within {
    folders: usize,
    archives: usize,
}

/// Folders and archives within one another that are opened.
const DEEPEST: Within = Within { folders: 8, archives: 2 };

struct Unpacker<'p> {
    into: &'p Path,
    out: Unpacked,
    /// Files written so far.
    written: usize,
    /// Bytes that may still be written.
    left: u64,
}

impl Unpacker<'_> {
    fn take(&mut self, path: &Path, name: &str, within: Within) {
        if let Err(error) = self.open(path, name, within) {
            self.out.refused.push((name.to_owned(), error));
        }
    }

    fn open(&mut self, path: &Path, name: &str, within: Within) -> Result<(), UnpackError> {
        if self.out.members.len() >= MOST_MEMBERS {
            return Err(UnpackError::TooMany);
        }
        if path.is_dir() {
            let entries = std::fs::read_dir(path)?.map(|e| e.map(|e| e.path())).collect::<Result<Vec<_>, _>>();
            let mut entries = entries?;
            entries.sort();
            for entry in entries.into_iter().take(MOST_MEMBERS + 1) {
                let own = entry.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
                if !own.starts_with('.') && within.folders < DEEPEST.folders {
                    let deeper = Within { folders: within.folders + 1, ..within };
                    self.take(&entry, &format!("{name}/{own}"), deeper);
                }
            }
            return Ok(());
        }
        let mut file = BufReader::new(File::open(path)?);
        let mut head = [0; 8];
        let n = file.read(&mut head)?;
        file.rewind()?;
        if head[..n].starts_with(b"\xd0\xcf\x11\xe0") {
            return self.sheets(file, name);
        }
        if !head[..n].starts_with(b"PK\x03\x04") || within.archives >= DEEPEST.archives {
            self.out.members.push(Member { name: name.to_owned(), path: path.to_owned() });
            return Ok(());
        }
        let mut archive = zip::ZipArchive::new(file)?;
        let has = |part: &str| archive.file_names().flatten().any(|n| n.starts_with(part));
        if (has("[Content_Types].xml") && has("xl/")) || (has("mimetype") && has("content.xml")) {
            let mut file = archive.into_inner();
            file.rewind()?;
            return self.sheets(file, name);
        }
        self.members(&mut archive, name, Within { archives: within.archives + 1, ..within })
    }

    /// A new file in the folder of what is unpacked.
    fn create(&mut self) -> io::Result<(PathBuf, File)> {
        self.written += 1;
        let path = self.into.join(format!("unpacked-{}", self.written));
        Ok((path.clone(), File::create(path)?))
    }

    fn members<R: Read + Seek>(
        &mut self,
        archive: &mut zip::ZipArchive<R>,
        name: &str,
        within: Within,
    ) -> Result<(), UnpackError> {
        let mut names: Vec<(String, usize)> = Vec::new();
        for i in 0..archive.len() {
            let member = archive.by_index(i)?;
            let own = member.name()?.into_owned();
            let hidden = own.split('/').any(|part| part.starts_with('.') || part == "__MACOSX");
            if !member.is_dir() && !hidden {
                names.push((own, i));
            }
        }
        names.sort();
        for (own, i) in names {
            if self.out.members.len() >= MOST_MEMBERS {
                return Err(UnpackError::TooMany);
            }
            let (path, mut to) = self.create()?;
            // The size that the archive tells may be false: what really comes is counted.
            let mut entry = archive.by_index(i)?;
            let copied = io::copy(&mut (&mut entry).take(self.left + 1), &mut to)?;
            self.left = self.left.checked_sub(copied).ok_or(UnpackError::TooLarge)?;
            drop(to);
            self.take(&path, &format!("{name}/{own}"), within);
        }
        Ok(())
    }

    /// Each sheet of a workbook as text: cells parted by tabs, times in ISO 8601.
    fn sheets<R: Read>(&mut self, mut file: R, name: &str) -> Result<(), UnpackError> {
        let mut bytes = Vec::new();
        // A workbook is read whole into memory: one of more than this is a database.
        const MOST: u64 = 256 << 20;
        file.by_ref().take(MOST + 1).read_to_end(&mut bytes)?;
        if bytes.len() as u64 > MOST {
            return Err(UnpackError::TooLarge);
        }
        let mut book = open_workbook_auto_from_rs(Cursor::new(bytes))?;
        for sheet in book.sheet_names() {
            let range = book.worksheet_range(&sheet)?;
            if range.is_empty() {
                continue;
            }
            let (path, to) = self.create()?;
            let mut to = io::BufWriter::new(to);
            for row in range.rows() {
                let cells: Vec<String> = row.iter().map(cell).collect();
                writeln!(to, "{}", cells.join("\t"))?;
            }
            to.flush()?;
            self.out.members.push(Member { name: format!("{name}/{sheet}"), path });
        }
        Ok(())
    }
}

fn cell(cell: &Data) -> String {
    match cell {
        Data::DateTime(t) if t.is_datetime() => {
            // Spreadsheets keep days as fractions: the nearest second is meant.
            let seconds = ((t.as_f64() - 25_569.0) * 86_400.0).round() as i64;
            jiff::Timestamp::from_second(seconds)
                .map_or_else(|_| t.as_f64().to_string(), |t| t.strftime("%Y-%m-%d %H:%M:%S").to_string())
        }
        Data::DateTimeIso(text) => text.clone(),
        Data::Empty => String::new(),
        Data::Error(e) => format!("#{e:?}"),
        other => other.to_string().replace(['\t', '\n', '\r'], " "),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn zipped(files: &[(&str, &[u8])]) -> Vec<u8> {
        let mut zip = zip::ZipWriter::new(Cursor::new(Vec::new()));
        for (name, bytes) in files {
            zip.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
            zip.write_all(bytes).unwrap();
        }
        zip.finish().unwrap().into_inner()
    }

    fn named(unpacked: &Unpacked) -> Vec<(&str, String)> {
        unpacked.members.iter().map(|m| (m.name.as_str(), std::fs::read_to_string(&m.path).unwrap())).collect()
    }

    #[test]
    fn an_archive_gives_its_files_in_order_and_one_within_it_too() {
        let dir = tempfile::tempdir().unwrap();
        let inner = zipped(&[("c.csv", b"3")]);
        let path = dir.path().join("a.zip");
        let files: [(&str, &[u8]); 4] = [("b/2.csv", b"2"), ("a.csv", b"1"), (".hidden", b"x"), ("inner.zip", &inner)];
        std::fs::write(&path, zipped(&files)).unwrap();
        let got = unpack(&path, "a.zip", dir.path());
        let wanted = [("a.zip/a.csv", "1"), ("a.zip/b/2.csv", "2"), ("a.zip/inner.zip/c.csv", "3")];
        assert_eq!(named(&got), wanted.map(|(name, text)| (name, text.to_owned())));
    }

    #[test]
    fn a_plain_file_is_itself_and_a_folder_its_files_archives_in_it_too() {
        let (dir, into) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        std::fs::create_dir_all(dir.path().join("march/north")).unwrap();
        std::fs::write(dir.path().join("march/north/b.csv"), "2").unwrap();
        std::fs::write(dir.path().join("a.csv"), "1").unwrap();
        for name in ["x.zip", "y.zip"] {
            std::fs::write(dir.path().join("march").join(name), zipped(&[("c.csv", name.as_bytes())])).unwrap();
        }
        let got = unpack(dir.path(), "season", into.path());
        let wanted = [
            ("season/a.csv", "1"),
            ("season/march/north/b.csv", "2"),
            ("season/march/x.zip/c.csv", "x.zip"),
            ("season/march/y.zip/c.csv", "y.zip"),
        ];
        assert_eq!(named(&got), wanted.map(|(name, text)| (name, text.to_owned())));
        assert_eq!(unpack(&got.members[0].path, "a.csv", into.path()).members.len(), 1);
    }

    #[test]
    fn what_is_damaged_is_said_and_stands_in_nobody_s_way() {
        let (dir, into) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        std::fs::write(dir.path().join("a.zip"), b"PK\x03\x04 and nothing more").unwrap();
        std::fs::write(dir.path().join("b.csv"), "1").unwrap();
        std::fs::write(dir.path().join("c.xls"), b"\xd0\xcf\x11\xe0 and nothing more").unwrap();
        std::fs::write(dir.path().join("d.zip"), zipped(&[("inner.zip", b"PK\x03\x04 torn"), ("good.csv", b"2")]))
            .unwrap();
        let got = unpack(dir.path(), "season", into.path());
        assert_eq!(named(&got), [("season/b.csv", "1".into()), ("season/d.zip/good.csv", "2".into())]);
        let refused: Vec<_> = got.refused.iter().map(|(name, why)| (name.as_str(), why.to_string())).collect();
        assert_eq!(
            refused.iter().map(|r| r.0).collect::<Vec<_>>(),
            ["season/a.zip", "season/c.xls", "season/d.zip/inner.zip"]
        );
        assert!(
            refused[0].1.contains("copy it once more") && refused[1].1.contains("save it as .xlsx or .ods"),
            "{refused:?}"
        );
        let nowhere = unpack(&dir.path().join("not there"), "not there", into.path());
        assert!(nowhere.members.is_empty() && nowhere.refused[0].1.to_string().contains("cannot be read"));
    }

    #[test]
    fn more_files_than_anybody_has_are_refused_after_the_first_two_thousand() {
        let (dir, into) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        let names: Vec<String> = (0..MOST_MEMBERS + 5).map(|i| format!("{i:05}.csv")).collect();
        let files: Vec<(&str, &[u8])> = names.iter().map(|n| (n.as_str(), &b"1"[..])).collect();
        let path = dir.path().join("a.zip");
        std::fs::write(&path, zipped(&files)).unwrap();
        let got = unpack(&path, "a.zip", into.path());
        assert_eq!(got.members.len(), MOST_MEMBERS);
        assert!(got.refused[0].1.to_string().contains("more than 2000 files"));
    }
}
