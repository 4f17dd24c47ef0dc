//! What several of these tests do.

use ebrel_formats::package::{Package, write_zip};
use std::io::Cursor;

/// The package as bytes.
pub fn zipped(package: &Package) -> Vec<u8> {
    let mut out = Cursor::new(Vec::new());
    write_zip(package.clone(), &mut out).unwrap();
    out.into_inner()
}
