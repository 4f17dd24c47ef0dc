//! Photographs from phones: their bytes under their hash, and small ones made of them.

use crate::importing::{keep_file, kept_at};
use ebrel_core::units::UnixSeconds;
use ebrel_store::{Store, StoreError};
use image::codecs::jpeg::JpegEncoder;
use image::{DynamicImage, ImageFormat, ImageReader, Limits};
use std::io::{Cursor, Write};
use std::path::Path;
use thiserror::Error;

/// Why a photograph was not taken.
#[derive(Debug, Error)]
pub enum PhotoError {
    /// It is no picture.
    #[error("This is no JPEG picture that can be read ({0}): take it again.")]
    Picture(#[from] image::ImageError),
    /// The disk refused.
    #[error("The picture could not be kept: {0}")]
    Disk(#[from] std::io::Error),
    /// The database refused.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// Longest edge of a small one, pixels, and its quality.
const SMALL: (u32, u8) = (640, 80);
/// Longest edge of what is taken, pixels.
const LARGEST: u32 = 12_000;

fn decode(bytes: Vec<u8>) -> Result<DynamicImage, PhotoError> {
    let mut reader = ImageReader::with_format(Cursor::new(bytes), ImageFormat::Jpeg);
    let mut limits = Limits::default();
    (limits.max_image_width, limits.max_image_height) = (Some(LARGEST), Some(LARGEST));
    limits.max_alloc = Some(200 * 1024 * 1024);
    reader.limits(limits);
    Ok(reader.decode()?)
}

/// Keeps a picture as it came, once however often it is sent, and returns its hash.
///
/// # Errors
/// [`PhotoError`] if it is no picture, or cannot be kept.
pub async fn keep(store: &Store, data: &Path, bytes: &[u8], by: &str, now: UnixSeconds) -> Result<String, PhotoError> {
    let (data, bytes) = (data.to_owned(), bytes.to_vec());
    let kept = blocking(move || {
        decode(bytes.clone())?;
        let mut file = tempfile::NamedTempFile::new()?;
        file.write_all(&bytes)?;
        Ok(keep_file(&data, file.path())?)
    });
    let sha256 = kept.await?;
    store.add_photo(&sha256, by, now).await?;
    Ok(sha256)
}

/// A small picture of it, made anew: nothing of what the camera wrote beside it is in it.
///
/// # Errors
/// [`PhotoError`] if its bytes are gone or damaged.
pub async fn small(data: &Path, sha256: &str) -> Result<Vec<u8>, PhotoError> {
    let path = kept_at(data, sha256);
    blocking(move || {
        let picture = decode(std::fs::read(path)?)?;
        let (edge, quality) = SMALL;
        let mut out = Vec::new();
        picture.thumbnail(edge, edge).to_rgb8().write_with_encoder(JpegEncoder::new_with_quality(&mut out, quality))?;
        Ok(out)
    })
    .await
}

async fn blocking<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, PhotoError> + Send + 'static,
) -> Result<T, PhotoError> {
    tokio::task::spawn_blocking(work).await.map_err(std::io::Error::other)?
}
