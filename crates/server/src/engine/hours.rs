//! Hour trials as part of what is due: a round's draw as its mailing begins, and the reading after the last one.

use super::{Engine, Result};
use rinse_core::Instant;
use rinse_core::id::{ContactId, MailingId};
use rinse_core::trial::hour::draw::Drawn;
use rinse_core::trial::hour::reading::read_with_own;
use rinse_store::clearing::Clearance;
use rinse_store::hour_trials::learned::{self, BestHours};
use rinse_store::hour_trials::{self, answers, drawing, own};
use rinse_store::settings;
use std::collections::HashMap;
use std::sync::Arc;

/// Each person's own turn; none: it has passed, and they get nothing.
type Turns = HashMap<ContactId, Option<Instant>>;

/// When people get a mailing that goes at their hours.
#[derive(Clone)]
pub(super) struct OwnHours {
    pub(super) turns: Arc<Turns>,
    /// Another system sends it: anybody who was drawn is on its lists at once, cleared for their hour as they are put on them.
    pub(super) at_once: bool,
}

/// People put on a roster by one change.
const AT_ONCE: usize = 2_000;

impl Engine {
    /// When each person's hour comes, of a mailing that is a round, drawn now or before a restart, or that goes at the best hour. None: it
    /// is neither, or can't be drawn.
    pub(super) async fn own_hours(&self, mailing: MailingId, done: &Arc<Clearance>, now: Instant) -> Result<Option<OwnHours>> {
        let Some((round, plan)) = self.store.read(move |c| hour_trials::round_of(c, mailing)).await? else {
            return self.best_hours(mailing, done, now).await;
        };
        let at_once = round.handed_out;
        let own = |seats: &[(Drawn, Instant)]| {
            let turns = seats.iter().map(|(d, due)| (d.contact, Some(if at_once { now } else { *due }))).collect();
            Some(OwnHours { turns: Arc::new(turns), at_once })
        };
        if round.drawn {
            let seats = self.store.read_at_leisure(move |c| drawing::roster(c, mailing)).await?;
            return Ok(own(&seats));
        }
        while self.store.write(move |c| drawing::take_off(c, mailing, AT_ONCE)).await? > 0 {}
        let cleared = Arc::clone(done);
        let drawn = self.store.read_at_leisure(move |c| drawing::drawn(c, &round, &plan, &cleared, now)).await?;
        let roster = match drawn {
            Ok(roster) => Arc::new(roster),
            Err(why) => {
                self.store.write(move |c| hour_trials::miss(c, mailing, &why, now)).await?;
                return Ok(None);
            }
        };
        for from in (0..roster.seats.len()).step_by(AT_ONCE) {
            let roster = Arc::clone(&roster);
            let put =
                move |c: &rinse_store::Connection| drawing::put_on(c, mailing, &roster.seats[from..roster.seats.len().min(from + AT_ONCE)]);
            self.store.write(put).await?;
        }
        let seats = own(&roster.seats);
        self.store.write(move |c| drawing::in_force(c, mailing, &roster, now)).await?;
        Ok(seats)
    }

    /// Who goes by which hour that was learned stands in the audit trail.
    async fn best_hours(&self, mailing: MailingId, done: &Arc<Clearance>, now: Instant) -> Result<Option<OwnHours>> {
        let cleared = Arc::clone(done);
        let found = self.store.read_at_leisure(move |c| learned::best_hours(c, mailing, &cleared, now, now)).await?;
        let Some(BestHours { turns, said }) = found else { return Ok(None) };
        self.store.write(move |c| settings::audit(c, now, None, "best hours used", "mailing", mailing.0, &said)).await?;
        Ok(Some(OwnHours { turns: Arc::new(turns), at_once: false }))
    }

    /// Reads the hour trials whose last window is over.
    pub(super) async fn read_hour_trials(&self, now: Instant) -> Result<()> {
        for id in self.store.read(move |c| hour_trials::to_read(c, now)).await? {
            let (reading, own_hours) = self
                .store
                .read_at_leisure(move |c| {
                    let t = hour_trials::one(c, id)?;
                    let broken = match drawing::broken(c, id)? {
                        Some(words) => Some(words),
                        None => hour_trials::crossed(c, id)?,
                    };
                    let (read, own) = read_with_own(&t.plan, &answers::of(c, &t)?);
                    Ok(match broken {
                        Some(words) => (read.broken(&words), None),
                        None => (read, own),
                    })
                })
                .await?;
            // Before the reading, in parts: cut off, they are put by again.
            let hours = Arc::new(own_hours.map_or_else(Vec::new, |own| own.hours));
            for from in (0..hours.len()).step_by(AT_ONCE) {
                let hours = Arc::clone(&hours);
                let put = move |c: &rinse_store::Connection| own::keep(c, id, &hours[from..hours.len().min(from + AT_ONCE)]);
                self.store.write(put).await?;
            }
            self.store.write(move |c| hour_trials::save_reading(c, id, &reading, now)).await?;
        }
        Ok(())
    }
}
