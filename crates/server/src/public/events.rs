//! Events of another sender as they happen: an object a line, by a door whose secret the sender knows.

use super::{At, instant};
use crate::state::App;
use axum::Json;
use axum::body::Bytes;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use rinse_core::delivery::placement::{Placed, placed};
use rinse_core::history::{Told, told};
use rinse_store::delivery::panel;
use rinse_store::history::taking::{self, Memory, Taken, Takes};
use rinse_store::{Result, Store, StoreError, doors, history};
use serde::{Deserialize, Serialize};
use std::time::Duration;
use utoipa::ToSchema;

/// Lines are read within this.
const PATIENCE: Duration = Duration::from_secs(10);
/// Events of one change.
const AT_ONCE: usize = 250;
/// Lines of which it is told why they weren't taken.
const TOLD: usize = 100;

#[derive(Deserialize)]
pub(crate) struct How {
    /// The sender tells what hosts accepted (usual). Without: what it doesn't say to have bounced was accepted.
    #[serde(default = "yes")]
    accepts: bool,
}

fn yes() -> bool {
    true
}

/// A line that wasn't taken.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct RefusedLine {
    line: usize,
    reason: String,
}

/// What became of the lines.
#[derive(Debug, Default, Serialize, ToSchema)]
pub(crate) struct EventsTaken {
    new: u64,
    /// They were there already.
    known: u64,
    refused: u64,
    /// Why, of the first hundred.
    reasons: Vec<RefusedLine>,
}

impl EventsTaken {
    fn count(&mut self, line: usize, taken: Taken) {
        match taken {
            Taken::New => self.new += 1,
            Taken::Known => self.known += 1,
            Taken::Refused(reason) => {
                self.refused += 1;
                if self.reasons.len() < TOLD {
                    self.reasons.push(RefusedLine { line, reason });
                }
            }
        }
    }
}

/// What a line tells: of a message to somebody, or of a copy to the test panel.
enum Read {
    Told(Box<Told>),
    Placed(Placed),
}

type Line = (usize, std::result::Result<Read, String>);

/// Takes what another sender tells of its mailings, an object a line: `address`, `mailing` (its key), `kind` (sent, accepted, deferred,
/// bounced, opened, clicked, replied, complained, left, bought), `at` (with its zone), and where there is one `agent`, `link`, `reply` (what
/// the host said), `amount` with `currency` and `key`; `name`, `subject` and `topic` of a mailing that is new. Lines are in any order; the
/// same one twice changes nothing, so whatever wasn't answered can be sent again. Up to 5 MB. Who looks into the mailboxes of the test panel
/// tells it here, too: `kind` placement, `address`, `mailing` (its number in Rinse), `placement` (inbox, junk, missing).
#[utoipa::path(post, path = "/in/events/{door}",
    params(("door" = String, Path, description = "The secret at the end of a door's address"), ("accepts" = Option<bool>, Query, description = "False: the sender doesn't tell what hosts accepted")),
    request_body(content = String, content_type = "application/x-ndjson"),
    responses((status = 200, body = EventsTaken), (status = 401, body = String, content_type = "text/plain", description = "No door opens with that secret"), (status = 413, body = String, content_type = "text/plain", description = "More than 5 MB"), (status = 422, body = String, content_type = "text/plain", description = "Something is missing here, as it says"), (status = 503, body = String, content_type = "text/plain", description = "Nothing of what wasn't counted was kept; send it again")))]
pub(crate) async fn take(State(app): State<App>, Path(secret): Path<String>, Query(how): Query<How>, at: At, body: Bytes) -> Response {
    let door = match app.door_of(&secret).await {
        Ok(Some(door)) => door,
        Ok(None) => {
            return (StatusCode::UNAUTHORIZED, "This door doesn't open with that address. Make one under Other systems.").into_response();
        }
        Err(_) => return StatusCode::SERVICE_UNAVAILABLE.into_response(),
    };
    let now = instant(&app, at);
    let lines = match app.apart.run(PATIENCE, move || lines(&body)).await {
        Ok(lines) => lines,
        Err(why) => return (StatusCode::SERVICE_UNAVAILABLE, why.to_string()).into_response(),
    };
    let takes = Takes { log: None, name: "events of another sender".into(), accepts: how.accepts, newcomers: false, unnamed: true, now };
    match all(&app.store, lines, takes).await {
        Ok(taken) => {
            if let Some(door) = door {
                let used = app.store.write(move |c| doors::used(c, door, now)).await;
                if let Err(e) = used {
                    tracing::error!("the use of a door was not noted: {e}");
                }
            }
            Json(taken).into_response()
        }
        Err(StoreError::Refused(why)) => (StatusCode::UNPROCESSABLE_ENTITY, why).into_response(),
        Err(e) => {
            tracing::error!("events of another sender were not taken: {e}");
            StatusCode::SERVICE_UNAVAILABLE.into_response()
        }
    }
}

fn lines(body: &[u8]) -> Vec<Line> {
    let text = String::from_utf8_lossy(body);
    text.lines().enumerate().filter(|(_, l)| !l.trim().is_empty()).map(|(i, l)| (i + 1, read(l))).collect()
}

fn read(line: &str) -> std::result::Result<Read, String> {
    match placed(line) {
        Some(copy) => copy.map(Read::Placed),
        None => told(line).map(|t| Read::Told(Box::new(t))),
    }
}

/// The ways of messages first, then answers, in parts.
async fn all(store: &Store, mut lines: Vec<Line>, takes: Takes) -> Result<EventsTaken> {
    lines.sort_by_key(|(_, read)| !matches!(read, Ok(Read::Told(t)) if taking::is_step(t.event.kind)));
    let (mut counted, mut unmarked) = (EventsTaken::default(), Vec::new());
    while !lines.is_empty() {
        let part: Vec<Line> = lines.drain(..AT_ONCE.min(lines.len())).collect();
        let t = takes.clone();
        let (taken, without_agent) = store
            .write(move |c| {
                let (mut memory, mut taken) = (Memory::default(), Vec::new());
                for (line, read) in part {
                    taken.push((
                        line,
                        match read {
                            Ok(Read::Placed(copy)) => match panel::keep(c, &copy, t.now) {
                                Ok(true) => Taken::New,
                                Ok(false) => Taken::Known,
                                Err(StoreError::Refused(why)) => Taken::Refused(why),
                                Err(e) => return Err(e),
                            },
                            Ok(Read::Told(told)) => {
                                history::introduce(c, &told, t.now)?;
                                taking::take(c, &t, &mut memory, &told.event)?
                            }
                            Err(why) => Taken::Refused(why),
                        },
                    ));
                }
                taking::settle_live(c, &mut memory, t.now)?;
                Ok((taken, memory.without_agent()))
            })
            .await?;
        for (line, t) in taken {
            counted.count(line, t);
        }
        unmarked.extend(without_agent);
    }
    counted.reasons.sort_by_key(|r| r.line);
    for mailing in unmarked {
        history::mark_unknown(store, mailing).await?;
    }
    Ok(counted)
}
