//! Backups while a server runs, restoring them, and a doctor who finds what was damaged.

use super::{ebrel, rig, said};
use std::io::Write as _;
use std::path::Path;
use std::process::{Command, Stdio};

fn run(arguments: &[&str]) -> (bool, String) {
    let output = Command::new(env!("CARGO_BIN_EXE_ebrel")).args(arguments).output().unwrap();
    (output.status.success(), said(&output))
}

fn text(path: &Path) -> &str {
    path.to_str().unwrap()
}

#[tokio::test]
async fn a_backup_made_while_a_server_runs_is_restored_to_the_byte_and_the_doctor_finds_damage() {
    let dir = rig().await;
    let data = dir.path();
    let import = ebrel(&["import", "node03.csv", "--station", "cut"], data);
    assert!([Some(0), Some(3)].contains(&import.status.code()), "{}", said(&import));
    // An archive is kept beside the files in it, and a record package as it came.
    let mut archive = zip::ZipWriter::new(std::fs::File::create(data.join("autumn.zip")).unwrap());
    archive.start_file("autumn.csv", zip::write::SimpleFileOptions::default()).unwrap();
    archive.write_all(b"time,soil temperature 95 cm [degC]\n2026-03-01 00:00,8.5\n2026-03-01 00:15,8.4\n").unwrap();
    archive.finish().unwrap();
    let import = ebrel(&["import", "autumn.zip", "--station", "cut"], data);
    assert_eq!(import.status.code(), Some(0), "{}", said(&import));
    let out = ebrel(&["export", "--station", "cut", "--out", "cut.zip"], data);
    assert!(out.status.success(), "{}", said(&out));
    let brought = ebrel(&["bring", "cut.zip", "--study", "Copy", "--code", "cut=copy"], data);
    assert!(brought.status.success() && said(&brought).contains("(copy), new"), "{}", said(&brought));
    let mut server = Command::new(env!("CARGO_BIN_EXE_ebrel"))
        .args(["serve", "--listen", "127.0.0.1:0", "--data", text(data)])
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let elsewhere = tempfile::tempdir().unwrap();
    let backup = elsewhere.path().join("θ backup.db");
    let (done, says) = run(&["backup", "--data", text(data), "--to", text(&backup)]);
    assert!(done && says.contains("it was read back") && says.contains("4 files (4 copied now)"), "{says}");
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        assert_eq!(std::fs::metadata(&backup).unwrap().permissions().mode() & 0o777, 0o600, "for its owner alone");
    }
    let (done, says) = run(&["backup", "--data", text(data), "--to", text(&backup)]);
    assert!(done && says.contains("4 files (0 copied now)"), "what is there is not copied again: {says}");
    // Nothing is written over: not the data themselves, nor what is no backup.
    let thesis = elsewhere.path().join("thesis.odt");
    std::fs::write(&thesis, "precious").unwrap();
    for (to, told) in [
        (data.join("ebrel.db"), "within the data"),
        (data.join("files/b.db"), "within the data"),
        (thesis.clone(), "is no backup"),
    ] {
        let (done, says) = run(&["backup", "--data", text(data), "--to", text(&to)]);
        assert!(!done && says.contains(told) && says.contains("Nothing was written"), "{says}");
    }
    assert_eq!(std::fs::read_to_string(&thesis).unwrap(), "precious");
    // A second server is refused.
    let (done, says) = run(&["serve", "--listen", "127.0.0.1:0", "--data", text(data)]);
    assert!(!done && says.contains("another Ebrel serves the data"), "{says}");
    server.kill().unwrap();
    server.wait().unwrap();

    let restored = elsewhere.path().join("restored");
    let (done, says) = run(&["restore", "--from", text(&backup), "--data", text(&restored)]);
    assert!(done && says.contains("Everybody signs in anew"), "{says}");
    let (done, says) = run(&["restore", "--from", text(&backup), "--data", text(&restored)]);
    assert!(!done && says.contains("holds something already"), "{says}");
    for data in [data, &restored] {
        let out = ebrel(&["export", "--station", "cut", "--out", "record.zip"], data);
        assert!(out.status.success(), "{}", said(&out));
    }
    let bytes = |data: &Path| std::fs::read(data.join("record.zip")).unwrap();
    assert!(bytes(data) == bytes(&restored), "the same record, to the byte");

    let (done, says) = run(&["doctor", "--data", text(&restored)]);
    assert!(done && says.matches("sound ").count() == 4, "{says}");
    let file = std::fs::read_dir(restored.join("files")).unwrap().next().unwrap().unwrap().path();
    std::fs::write(&file, "somebody saved it from a spreadsheet").unwrap();
    let (done, says) = run(&["doctor", "--data", text(&restored)]);
    assert!(!done && says.contains("WRONG uploaded files") && says.contains("is not what was uploaded"), "{says}");
    let (done, says) = run(&["backup", "--data", text(&restored), "--to", text(&elsewhere.path().join("b.db"))]);
    assert!(!done && says.contains("is damaged in"), "a backup of damage is none: {says}");
    assert!(!elsewhere.path().join("b.db").exists());

    // Half a backup is none, and leaves nothing that looks whole.
    let half = elsewhere.path().join("half.db");
    let whole = std::fs::read(&backup).unwrap();
    std::fs::write(&half, &whole[..whole.len() / 2]).unwrap();
    let (done, says) = run(&["restore", "--from", text(&half), "--data", text(&elsewhere.path().join("c"))]);
    assert!(!done && !elsewhere.path().join("c/ebrel.db").exists(), "{says}");
    let (done, says) = run(&["restore", "--from", text(&thesis), "--data", text(&elsewhere.path().join("d"))]);
    assert!(!done && says.contains("is no backup that can be read"), "{says}");
    let (done, says) = run(&["doctor", "--data", text(&elsewhere.path().join("nothing"))]);
    assert!(!done && says.contains("there is no Ebrel data"), "{says}");
}
