//! Who may lean on whom: crates, layers of the web crate, rooms.

use crate::{Failed, root, say};
use std::path::{Path, PathBuf};
use std::process::Command;

/// Proves all of it.
pub fn prove() -> Result<(), Failed> {
    crates()?;
    layers()?;
    rooms()
}

/// Which crates may lean on which: `core` <- `formats`, `simulator`, `store` <- `app` <- `web`.
const ARROWS: [(&str, &[&str]); 6] = [
    ("ebrel-core", &[]),
    ("ebrel-formats", &["ebrel-core"]),
    ("ebrel-simulator", &["ebrel-core"]),
    ("ebrel-store", &["ebrel-core"]),
    ("ebrel-app", &["ebrel-core", "ebrel-formats", "ebrel-simulator", "ebrel-store"]),
    ("ebrel", &["ebrel-app", "ebrel-core", "ebrel-formats", "ebrel-simulator", "ebrel-store"]),
];

/// Proves the arrows by `cargo tree`. Since the list must match exactly, a misspelt name fails too.
fn crates() -> Result<(), Failed> {
    for (name, wanted) in ARROWS {
        let tree = Command::new("cargo")
            .args(["tree", "--package", name, "--edges", "normal", "--prefix", "none", "--format", "{p}"])
            .current_dir(root())
            .output()?;
        if !tree.status.success() {
            return Err(format!("cargo tree knows no package {name}").into());
        }
        let text = String::from_utf8(tree.stdout)?;
        let mut found: Vec<&str> = text.lines().filter_map(|l| l.split(' ').next()).collect();
        found.retain(|p| p.starts_with("ebrel") && *p != name);
        found.sort_unstable();
        found.dedup();
        if found != wanted {
            return Err(format!("{name} leans on {found:?}; it may lean on {wanted:?}").into());
        }
        let forbidden = ["sqlx", "actix-web", "tokio", "askama", "jiff", "rand"];
        let leak = forbidden.iter().find(|f| text.lines().any(|l| l.split(' ').next() == Some(*f)));
        if let (Some(leak), "ebrel-core") = (leak, name) {
            return Err(
                format!("{leak} has come into ebrel-core, which knows no database, page, clock or chance").into()
            );
        }
    }
    say("arrows between crates: as drawn");
    Ok(())
}

/// The layers of the web crate, and what each leans on.
const LAYERS: [(&str, &[&str]); 5] = [
    ("state", &[]),
    ("shell", &["state"]),
    ("components", &[]),
    ("rooms", &["components", "shell", "state"]),
    ("server.rs", &["rooms", "shell", "state"]),
];

/// Proves that, by exact lists like those of the crates.
fn layers() -> Result<(), Failed> {
    let folder = root().join("crates/web/src");
    for (layer, wanted) in LAYERS {
        let path = folder.join(layer);
        let files = if path.is_dir() { files_below(&path)? } else { vec![path] };
        let mut found = Vec::new();
        for file in files.iter().filter(|f| f.extension().is_some_and(|e| e == "rs")) {
            let text = std::fs::read_to_string(file)?;
            let named = text.split("crate::").skip(1).flat_map(|rest| match rest.strip_prefix('{') {
                Some(list) => list.split('}').next().unwrap_or_default().split(',').collect(),
                None => vec![rest],
            });
            found.extend(
                named.map(|n| n.trim().chars().take_while(|c| c.is_alphanumeric() || *c == '_').collect::<String>()),
            );
        }
        found.retain(|name| !layer.starts_with(name.as_str()));
        found.sort_unstable();
        found.dedup();
        if found != wanted {
            return Err(format!("{layer} of the web crate leans on {found:?}; it may lean on {wanted:?}").into());
        }
    }
    say("layers of the web crate: as drawn");
    Ok(())
}

/// The rooms of the web crate; none leans on another, in code, templates or scripts.
const ROOMS: [&str; 7] = ["bench", "field", "findings", "plan", "record", "review", "training"];

/// Proves that. Each room must be found to name itself, so that a scan that sees nothing fails too.
fn rooms() -> Result<(), Failed> {
    let folder = root().join("crates/web/src/rooms");
    for room in ROOMS {
        let mut named = Vec::new();
        for file in files_below(&folder.join(room))? {
            let text = std::fs::read_to_string(&file)?;
            let leans = |other: &str| {
                let ways = [format!("rooms::{other}::"), format!("rooms::{other};"), format!("rooms/{other}/")];
                ways.iter().any(|way| text.contains(way))
            };
            named.extend(ROOMS.into_iter().filter(|other| leans(other)).map(|other| (other, file.clone())));
        }
        if let Some((other, file)) = named.iter().find(|(other, _)| *other != room) {
            return Err(format!(
                "{} leans on the room {other}: share it through components, shell or the crate ebrel-app",
                file.display()
            )
            .into());
        }
        if named.is_empty() {
            return Err(format!("nothing was found in the room {room}").into());
        }
    }
    say("rooms: none leans on another");
    Ok(())
}

/// All files of a folder and those within.
fn files_below(folder: &Path) -> Result<Vec<PathBuf>, Failed> {
    let mut files = Vec::new();
    for entry in std::fs::read_dir(folder)? {
        let path = entry?.path();
        if path.is_dir() { files.extend(files_below(&path)?) } else { files.push(path) }
    }
    Ok(files)
}
