//! Images of messages: uploaded once, kept by their digest, served by Rinse itself.

use crate::{Result, StoreError};
use rinse_core::Instant;
use rusqlite::{Connection, OptionalExtension, Row, params};
use serde::Serialize;
use sha2::{Digest, Sha256};
use utoipa::ToSchema;

/// An uploaded image.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Image {
    pub id: i64,
    pub name: String,
    /// Its media type.
    pub kind: String,
    pub bytes: i64,
    /// The last part of its address, from which nobody can guess another's.
    pub key: String,
}

/// Above this, a message would be read on few phones.
pub const LARGEST: usize = 2_000_000;

/// What an image is, by its first bytes: never by what somebody says of it.
fn kind(bytes: &[u8]) -> Option<&'static str> {
    [(&b"\x89PNG\r\n\x1a\n"[..], "image/png"), (b"\xff\xd8\xff", "image/jpeg"), (b"GIF87a", "image/gif"), (b"GIF89a", "image/gif")]
        .into_iter()
        .find_map(|(magic, kind)| bytes.starts_with(magic).then_some(kind))
        .or_else(|| (bytes.starts_with(b"RIFF") && bytes.get(8..12) == Some(b"WEBP")).then_some("image/webp"))
}

fn key_of(digest: &[u8]) -> String {
    rinse_core::token::hex(&digest[..digest.len().min(16)])
}

/// Keeps an image; the same one again is the one that is there.
///
/// # Errors
/// When it is no image that messages can show, or too large.
pub fn save(c: &Connection, name: &str, bytes: &[u8], now: Instant, person: Option<i64>) -> Result<Image> {
    if bytes.len() > LARGEST {
        return Err(StoreError::Refused(format!(
            "The image has {} kB; at most 2,000 kB can be kept. Make it smaller.",
            bytes.len() / 1000
        )));
    }
    let Some(kind) = kind(bytes) else {
        return Err(StoreError::Refused("This is no PNG, JPEG, GIF or WebP image; readers' inboxes show no other kind.".into()));
    };
    let digest = Sha256::digest(bytes);
    let name: String = name.chars().filter(|c| !c.is_control()).take(100).collect();
    c.execute(
        "INSERT INTO image (name, kind, digest, bytes, at, person_id) VALUES (?1,?2,?3,?4,?5,?6) ON CONFLICT (digest) DO NOTHING",
        params![name, kind, digest.as_slice(), bytes, now.millis(), person],
    )?;
    Ok(c.prepare_cached(&format!("SELECT {COLUMNS} FROM image WHERE digest = ?1"))?.query_row([digest.as_slice()], read)?)
}

const COLUMNS: &str = "id, name, kind, length(bytes), digest";

fn read(r: &Row<'_>) -> rusqlite::Result<Image> {
    Ok(Image { id: r.get(0)?, name: r.get(1)?, kind: r.get(2)?, bytes: r.get(3)?, key: key_of(&r.get::<_, Vec<u8>>(4)?) })
}

/// The newest first.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<Image>> {
    let mut s = c.prepare_cached(&format!("SELECT {COLUMNS} FROM image ORDER BY id DESC LIMIT 500"))?;
    Ok(s.query_map([], read)?.collect::<rusqlite::Result<_>>()?)
}

/// An image by its key: its media type and bytes.
///
/// # Errors
/// When the database fails.
pub fn by_key(c: &Connection, key: &str) -> Result<Option<(String, Vec<u8>)>> {
    if key.len() != 32 || !key.bytes().all(|b| b.is_ascii_hexdigit()) {
        return Ok(None);
    }
    // The digests that begin so stand together in their index.
    let from: Vec<u8> = (0..32).step_by(2).filter_map(|i| u8::from_str_radix(&key[i..i + 2], 16).ok()).collect();
    let to = [from.as_slice(), &[0xff; 16]].concat();
    Ok(c.prepare_cached("SELECT kind, bytes FROM image WHERE digest BETWEEN ?1 AND ?2")?
        .query_row([from, to], |r| Ok((r.get(0)?, r.get(1)?)))
        .optional()?)
}

/// The key of an image by its number.
///
/// # Errors
/// When the database fails.
pub fn key(c: &Connection, id: i64) -> Result<Option<String>> {
    let digest: Option<Vec<u8>> = c.prepare_cached("SELECT digest FROM image WHERE id = ?1")?.query_row([id], |r| r.get(0)).optional()?;
    Ok(digest.map(|d| key_of(&d)))
}
