//! The phone network: numbers that don't exist, networks that are busy, people who answer.

use crate::network::{Network, Result};
use crate::people::Draws;
use rinse_core::bounce::Reply;
use rinse_core::{HOUR, Instant, MINUTE, SECOND};
use rusqlite::params;

/// A text message handed to the network.
#[derive(Debug, Clone, Copy)]
pub struct HandedText<'a> {
    pub id: &'a str,
    pub from: &'a str,
    pub to: &'a str,
    pub text: &'a str,
}

/// Of a hundred numbers that people gave, so many are gone by now.
const GONE: f64 = 0.02;
/// So many of those are found out hours later only.
const FOUND_OUT_LATER: f64 = 0.4;
const BUSY: f64 = 0.03;
const ANSWERS: f64 = 0.04;
const STOPS: f64 = 0.012;

const WORDS: [&str; 4] = ["Count me in.", "Thank you! Is there a place for two?", "Can't make it, next time.", "Which quay is it?"];
const STOPPING: [&str; 3] = ["STOP", "Stop please", "stop"];

impl Network {
    /// Hands text messages over. What is taken, and what will come of it, is on record before the replies are given.
    ///
    /// # Errors
    /// When the world's file fails.
    pub fn hand_over_texts(&self, now: Instant, batch: &[HandedText<'_>]) -> Result<Vec<Reply>> {
        let tx = self.db.unchecked_transaction()?;
        let replies = batch.iter().map(|m| self.one_text(now, m)).collect::<Result<_>>()?;
        tx.commit()?;
        Ok(replies)
    }

    fn one_text(&self, now: Instant, m: &HandedText<'_>) -> Result<Reply> {
        if self.holds(m.id)? {
            return Ok(Reply::parse("250 2.0.0 taken already"));
        }
        let seed = self.scenario.seed;
        let mut number = Draws::new(seed, m.to);
        let gone = number.chance(GONE);
        let late = number.chance(FOUND_OUT_LATER);
        if gone && !late {
            return Ok(Reply::parse("550 5.1.1 no such number"));
        }
        let mut d = Draws::of_message(seed, m.id, m.to);
        if d.chance(BUSY) && self.db.prepare_cached("INSERT INTO greeted VALUES (?1) ON CONFLICT DO NOTHING")?.execute([m.id])? > 0 {
            return Ok(Reply::parse("451 4.3.0 the network is busy, to be tried again"));
        }
        self.db.prepare_cached("INSERT INTO accepted VALUES (?1, ?2)")?.execute([m.id, m.to])?;
        if gone {
            let body = serde_json::json!({ "message": m.id, "status": 404, "words": "no such number" });
            self.bring(now + HOUR + i64::try_from(d.below(5 * 60)).unwrap_or(0) * MINUTE, "text-report", &body)?;
            return Ok(Reply::parse("250 2.0.0 taken"));
        }
        // Minutes until they look, with a long tail: a phone is at hand.
        #[allow(clippy::cast_possible_truncation)]
        let looks = now + ((6.0 * (1.2 * d.normal()).exp()).clamp(0.3, 2_000.0) * 60_000.0) as i64;
        // Who asks for it gets it at any hour; what marketing does to people depends on how it is written.
        let words = match d.unit() {
            u if u < STOPS => Some(STOPPING[d.below(STOPPING.len())]),
            u if u < STOPS + ANSWERS => Some(WORDS[d.below(WORDS.len())]),
            _ => None,
        };
        if let Some(words) = words {
            let body = serde_json::json!({ "id": format!("answer to {}", m.id), "from": m.to, "to": m.from, "text": words });
            self.bring(looks + i64::try_from(20 + d.below(400)).unwrap_or(0) * SECOND, "text", &body)?;
        }
        Ok(Reply::parse("250 2.0.0 taken"))
    }

    /// What the gateway will bring to one of our doors.
    fn bring(&self, at: Instant, door: &str, body: &serde_json::Value) -> Result<()> {
        self.db
            .prepare_cached("INSERT INTO event (at, method, target, agent, body) VALUES (?1, 'POST', ?2, 'text gateway', ?3)")?
            .execute(params![at.millis(), format!("http://here/in/{door}"), body.to_string()])?;
        Ok(())
    }
}
