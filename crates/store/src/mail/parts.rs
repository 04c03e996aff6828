//! Pieces of message source that are used again, by what they are for. They are put in as plain source: a later change
//! of a piece changes no message.

use crate::{Result, StoreError};
use rinse_core::Instant;
use rusqlite::{Connection, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What pieces are for.
pub const PURPOSES: [&str; 7] = ["greeting", "news", "offer", "event", "question", "sign-off", "legal"];

/// A piece of source.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Piece {
    /// 0: it came with Rinse, and can't be changed.
    #[serde(default)]
    pub id: i64,
    pub name: String,
    pub purpose: String,
    /// `html` or `markdown`.
    pub format: String,
    pub source: String,
}

const OWN: [(&str, &str, &str, &str); 8] = [
    ("Greeting by name", "greeting", "<p>Dear {{ given_name|default(\"friend\") }},</p>", "Dear {{ given_name|default(\"friend\") }},"),
    (
        "A piece of news",
        "news",
        "<h2>What is new</h2>\n<p>…</p>\n<p><a href=\"https://\">Read on</a></p>",
        "## What is new\n\n…\n\n[Read on](https://)",
    ),
    (
        "An offer with a button",
        "offer",
        "<p>…</p>\n<p><a href=\"https://\" style=\"display:inline-block;padding:12px 20px;background:#17212b;color:#ffffff;text-decoration:none\">Choose yours</a></p>",
        "…\n\n**[Choose yours](https://)**",
    ),
    (
        "A date and a place",
        "event",
        "<table role=\"presentation\"><tr><td><b>When</b></td><td>…</td></tr><tr><td><b>Where</b></td><td>…</td></tr></table>\n<p><a href=\"https://\">Keep a place</a></p>",
        "**When:** …\n\n**Where:** …\n\n[Keep a place](https://)",
    ),
    (
        "A question, answered by a link",
        "question",
        "<p>…?</p>\n<p><a href=\"https://\">Yes</a> · <a href=\"https://\">No</a></p>",
        "…?\n\n[Yes](https://) · [No](https://)",
    ),
    ("A question, answered by a reply", "question", "<p>…? Just reply to this letter.</p>", "…? Just reply to this letter."),
    ("Sign-off", "sign-off", "<p>With good wishes,<br>{{ sender_name }}</p>", "With good wishes,\\\n{{ sender_name }}"),
    (
        "Address and ways out",
        "legal",
        "<p>{{ sender_name }}, {{ postal_address }}<br>\n{{ social_links }}<br>\n<a href=\"{{ share_url }}\">Open or share in a browser</a>,\n<a href=\"{{ preferences_url }}\">choose what you get</a>,\n<a href=\"{{ unsubscribe_url }}\">stop these letters</a></p>",
        "{{ sender_name }}, {{ postal_address }}\n\n{{ social_links }}\n\n[Open or share in a browser]({{ share_url }}), [choose what you get]({{ preferences_url }}), [stop these letters]({{ unsubscribe_url }})",
    ),
];

/// Those that came with Rinse, in both formats, then one's own, by purpose.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<Piece>> {
    let mut out = Vec::new();
    for (name, purpose, html, markdown) in OWN {
        for (format, source) in [("html", html), ("markdown", markdown)] {
            out.push(Piece { id: 0, name: name.into(), purpose: purpose.into(), format: format.into(), source: source.into() });
        }
    }
    let mut s = c.prepare_cached("SELECT id, name, purpose, format, source FROM message_part ORDER BY name")?;
    let rows =
        s.query_map([], |r| Ok(Piece { id: r.get(0)?, name: r.get(1)?, purpose: r.get(2)?, format: r.get(3)?, source: r.get(4)? }))?;
    for row in rows {
        out.push(row?);
    }
    out.sort_by_key(|p| PURPOSES.iter().position(|x| *x == p.purpose).unwrap_or(PURPOSES.len()));
    Ok(out)
}

/// Keeps a piece; one of the same name is replaced.
///
/// # Errors
/// When something is missing.
pub fn save(c: &Connection, p: &Piece, now: Instant, person: Option<i64>) -> Result<i64> {
    let name = p.name.trim();
    if name.is_empty() || p.source.trim().is_empty() {
        return Err(StoreError::Refused("Give the piece a name, and choose the source that it keeps.".into()));
    }
    if !PURPOSES.contains(&p.purpose.as_str()) || !matches!(p.format.as_str(), "html" | "markdown") {
        return Err(StoreError::Refused(format!("A piece is for one of these: {}.", PURPOSES.join(", "))));
    }
    Ok(c.query_row(
        "INSERT INTO message_part (name, purpose, format, source, made_at, person_id) VALUES (?1,?2,?3,?4,?5,?6)
         ON CONFLICT (name) DO UPDATE SET purpose = ?2, format = ?3, source = ?4 RETURNING id",
        params![name, p.purpose, p.format, p.source, now.millis(), person],
        |r| r.get(0),
    )?)
}

/// # Errors
/// When there is no such piece.
pub fn delete(c: &Connection, id: i64) -> Result<()> {
    if c.execute("DELETE FROM message_part WHERE id = ?1", [id])? == 0 { Err(StoreError::Missing("piece")) } else { Ok(()) }
}
