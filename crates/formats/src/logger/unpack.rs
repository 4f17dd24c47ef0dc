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
    /// The disk.
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

/// The files in a file or folder, in order of their names. A plain file is its only member; those of an archive or a workbook are
/// written into `into`.
///
/// # Errors
/// [`UnpackError`] for what cannot be opened, or unpacks to too much.
pub fn unpack(path: &Path, name: &str, into: &Path) -> Result<Vec<Member>, UnpackError> {
    let mut out = Vec::new();
    collect(path, name, into, 0, &mut out)?;
    Ok(out)
}

fn collect(path: &Path, name: &str, into: &Path, depth: usize, out: &mut Vec<Member>) -> Result<(), UnpackError> {
    if out.len() >= MOST_MEMBERS {
        return Err(UnpackError::TooMany);
    }
    if path.is_dir() {
        let mut entries: Vec<PathBuf> =
            std::fs::read_dir(path)?.map(|e| e.map(|e| e.path())).collect::<Result<_, _>>()?;
        entries.sort();
        for entry in entries {
            let own = entry.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
            if !own.starts_with('.') && depth < 8 {
                collect(&entry, &format!("{name}/{own}"), into, depth + 1, out)?;
            }
        }
        return Ok(());
    }
    let mut file = BufReader::new(File::open(path)?);
    let mut head = [0; 8];
    let n = file.read(&mut head)?;
    file.rewind()?;
    let zip = head[..n].starts_with(b"PK\x03\x04");
    let old_workbook = head[..n].starts_with(b"\xd0\xcf\x11\xe0");
    if !zip && !old_workbook {
        out.push(Member { name: name.to_owned(), path: path.to_owned() });
        return Ok(());
    }
    if old_workbook {
        return sheets(file, name, into, out);
    }
    let mut archive = zip::ZipArchive::new(file)?;
    let workbook = ["[Content_Types].xml", "mimetype"].iter().any(|part| archive.index_for_name(part).is_some())
        && ["xl/", "content.xml"].iter().any(|part| archive.file_names().flatten().any(|n| n.starts_with(part)));
    if workbook {
        let mut file = archive.into_inner();
        file.rewind()?;
        return sheets(file, name, into, out);
    }
    members(&mut archive, name, into, depth, out)
}

fn members<R: Read + Seek>(
    archive: &mut zip::ZipArchive<R>,
    name: &str,
    into: &Path,
    depth: usize,
    out: &mut Vec<Member>,
) -> Result<(), UnpackError> {
    let mut left = MOST_BYTES;
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
        if out.len() >= MOST_MEMBERS {
            return Err(UnpackError::TooMany);
        }
        let path = into.join(format!("member-{depth}-{}", out.len()));
        let mut to = File::create(&path)?;
        // The size that the archive tells may be false: what really comes is counted.
        let mut entry = archive.by_index(i)?;
        let copied = io::copy(&mut (&mut entry).take(left + 1), &mut to)?;
        left = left.checked_sub(copied).ok_or(UnpackError::TooLarge)?;
        let name = format!("{name}/{own}");
        if depth == 0 {
            collect(&path, &name, into, 1, out)?;
        } else {
            out.push(Member { name, path });
        }
    }
    Ok(())
}

/// Each sheet of a workbook as text: cells parted by tabs, times in ISO 8601.
fn sheets<R: Read>(mut file: R, name: &str, into: &Path, out: &mut Vec<Member>) -> Result<(), UnpackError> {
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
        let path = into.join(format!("sheet-{}", out.len()));
        let mut to = io::BufWriter::new(File::create(&path)?);
        for row in range.rows() {
            let cells: Vec<String> = row.iter().map(cell).collect();
            writeln!(to, "{}", cells.join("\t"))?;
        }
        to.flush()?;
        out.push(Member { name: format!("{name}/{sheet}"), path });
    }
    Ok(())
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

    #[test]
    fn an_archive_gives_its_files_in_order_and_one_within_it_too() {
        let dir = tempfile::tempdir().unwrap();
        let inner = zipped(&[("c.csv", b"3")]);
        let path = dir.path().join("a.zip");
        std::fs::write(&path, zipped(&[("b/2.csv", b"2"), ("a.csv", b"1"), (".hidden", b"x"), ("inner.zip", &inner)]))
            .unwrap();
        let got = unpack(&path, "a.zip", dir.path()).unwrap();
        let named: Vec<_> = got.iter().map(|m| (m.name.as_str(), std::fs::read_to_string(&m.path).unwrap())).collect();
        assert_eq!(
            named,
            [("a.zip/a.csv", "1".into()), ("a.zip/b/2.csv", "2".into()), ("a.zip/inner.zip/c.csv", "3".into())]
        );
    }

    #[test]
    fn a_plain_file_is_itself_and_a_folder_its_files() {
        let dir = tempfile::tempdir().unwrap();
        std::fs::write(dir.path().join("b.csv"), "2").unwrap();
        std::fs::write(dir.path().join("a.csv"), "1").unwrap();
        let got = unpack(dir.path(), "season", dir.path()).unwrap();
        assert_eq!(got.iter().map(|m| m.name.as_str()).collect::<Vec<_>>(), ["season/a.csv", "season/b.csv"]);
        assert_eq!(unpack(&got[0].path, "a.csv", dir.path()).unwrap().len(), 1);
    }

    #[test]
    fn a_damaged_archive_is_said() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("a.zip");
        std::fs::write(&path, b"PK\x03\x04 and nothing more").unwrap();
        assert!(unpack(&path, "a.zip", dir.path()).unwrap_err().to_string().contains("cannot be opened"));
    }
}
