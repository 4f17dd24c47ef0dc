//! The demo's database, made once for all tests of a program and copied for each.

use ebrel_store::Store;
use std::path::Path;
use tokio::sync::OnceCell;

static MADE: OnceCell<Vec<u8>> = OnceCell::const_new();

/// Puts the demo into a data directory that is still empty.
pub async fn copy_into(data: &Path) {
    let bytes = MADE.get_or_init(make).await;
    std::fs::write(data.join("ebrel.db"), bytes).unwrap();
}

async fn make() -> Vec<u8> {
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("ebrel.db");
    let store = Store::open(&file).await.unwrap();
    ebrel_app::demo::seed(&store).await.unwrap();
    store.close().await;
    assert!(!dir.path().join("ebrel.db-wal").exists(), "everything is in the one file");
    std::fs::read(file).unwrap()
}
