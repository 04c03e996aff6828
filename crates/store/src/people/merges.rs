//! Two contacts that are one person: merged, and parted again; and addresses that were mistyped.
//!
//! What belongs to the person moves: messages, purchases, lists, tags, fields. What belongs to the
//! address stays with it: its bounces, hence its mail status. Of consent the strictest holds. The other
//! row stays, so that its links still work and its address still leads here.

use crate::codes::{TRIAL_COLLECTING, TRIAL_PLANNED};
use crate::contacts::{self, Profile};
use crate::fields::{self};
use crate::ledger::{self, Origin, Stated};
use crate::numbers::{self};
use crate::runs::{self, Image, Merged};
use crate::stored::ids;
use crate::tags::{self, Kind};
use crate::{Result, StoreError, rollups, scores};
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::address::Address;
use rinse_core::channel::Channel;
use rinse_core::consent::{import_may_raise, strictest};
use rinse_core::id::ContactId;
use rusqlite::{Connection, params};

fn refused(words: &str) -> StoreError {
    StoreError::Refused(words.into())
}

fn must_be_free(c: &Connection, contact: ContactId) -> Result<()> {
    let gone: Option<i64> = c
        .prepare_cached("SELECT gone FROM contact WHERE id = ?1")?
        .query_row([contact.0], |r| r.get(0))
        .map_err(|_| StoreError::Missing("contact"))?;
    if gone.is_some() {
        return Err(refused("This person is not in the base any more."));
    }
    let in_trial: bool = c
        .prepare_cached(
            formatcp!("SELECT EXISTS (SELECT 1 FROM roster r JOIN trial t ON t.id = r.trial_id WHERE r.contact_id = ?1 AND t.state IN ({TRIAL_PLANNED}, {TRIAL_COLLECTING}))
                OR EXISTS (SELECT 1 FROM hour_round d JOIN hour_trial t ON t.id = d.trial_id JOIN hour_roster r ON r.mailing_id = d.mailing_id
                    WHERE r.contact_id = ?1 AND t.state = {TRIAL_COLLECTING})"),
        )?
        .query_row([contact.0], |r| r.get(0))?;
    if in_trial {
        return Err(refused("This person is in a trial that is still collecting. Wait until it is read: a changed roster would void it."));
    }
    Ok(())
}

const MEMBERSHIPS: [(&str, &str, &str); 3] =
    [("list_member", "list_id", "joined_at"), ("contact_tag", "tag_id", "at"), ("topic_left", "topic_id", "at")];

/// Merges `from` into `into`, as a part of a run.
///
/// # Errors
/// When either is gone, they are the same, or one is in a trial that is still collecting.
pub fn merge(c: &Connection, run: i64, from: ContactId, into: ContactId, now: Instant, person: Option<i64>) -> Result<()> {
    if from == into {
        return Err(refused("Choose another person to merge with."));
    }
    must_be_free(c, from)?;
    must_be_free(c, into)?;
    let address = |id: ContactId| -> Result<String> {
        Ok(c.prepare_cached("SELECT address FROM contact WHERE id = ?1")?.query_row([id.0], |r| r.get(0))?)
    };
    let (profile, other) = (contacts::profile(c, into)?, contacts::profile(c, from)?);
    let (a, b) = (ledger::stated(c, into)?, ledger::stated(c, from)?);
    let their_fields = fields::filled(c, from)?;
    let fields_before = their_fields.iter().map(|f| fields::stored(c, into, *f)).collect::<Result<Vec<_>>>()?;

    // What is known of the one fills what is missing of the other.
    let fill = |a: &Option<String>, b: &Option<String>| a.clone().or_else(|| b.clone());
    let whole = Profile {
        given_name: fill(&profile.given_name, &other.given_name),
        family_name: fill(&profile.family_name, &other.family_name),
        country: fill(&profile.country, &other.country),
        region: fill(&profile.region, &other.region),
        zone: fill(&profile.zone, &other.zone),
        source: fill(&profile.source, &other.source),
        position: profile.position.or(other.position),
    };
    contacts::replace_profile(c, into, &whole)?;
    c.prepare_cached(
        "INSERT INTO field_value (field_id, contact_id, text, key, number, day, flag, dated, source)
         SELECT field_id, ?2, text, key, number, day, flag, dated, source FROM field_value WHERE contact_id = ?1 ON CONFLICT DO NOTHING",
    )?
    .execute([from.0, into.0])?;
    let mut moved = Vec::new();
    for (table, column, when) in MEMBERSHIPS {
        let there: Vec<(i64, i64)> = c
            .prepare_cached(&format!("SELECT {column}, {when} FROM {table} WHERE contact_id = ?1"))?
            .query_map([from.0], |r| Ok((r.get(0)?, r.get(1)?)))?
            .collect::<rusqlite::Result<_>>()?;
        let mut put =
            c.prepare_cached(&format!("INSERT INTO {table} ({column}, contact_id, {when}) VALUES (?1, ?2, ?3) ON CONFLICT DO NOTHING"))?;
        let list = there.into_iter().map(|(id, at)| Ok((id, at, put.execute([id, into.0, at])? > 0))).collect::<Result<Vec<_>>>()?;
        c.prepare_cached(&format!("DELETE FROM {table} WHERE contact_id = ?1"))?.execute([from.0])?;
        moved.push(list);
    }
    let mut put = c.prepare_cached("INSERT INTO segment_member VALUES (?1, ?2) ON CONFLICT DO NOTHING")?;
    let segments = ids(c, "SELECT segment_id FROM segment_member WHERE contact_id = ?1", [from.0])?
        .into_iter()
        .map(|s| Ok((s, put.execute([s, into.0])? > 0)))
        .collect::<Result<Vec<_>>>()?;
    c.prepare_cached("DELETE FROM segment_member WHERE contact_id = ?1")?.execute([from.0])?;
    let purchases = ids(c, "SELECT id FROM purchase WHERE contact_id = ?1", [from.0])?;
    c.prepare_cached("UPDATE purchase SET contact_id = ?2 WHERE contact_id = ?1")?.execute([from.0, into.0])?;
    let events = ids(c, "SELECT id FROM event WHERE contact_id = ?1", [from.0])?;
    c.prepare_cached("UPDATE event SET contact_id = ?2 WHERE contact_id = ?1")?.execute([from.0, into.0])?;
    let scored = scores::hand_on(c, from, into, None)?;
    // A message of a mailing that both got stays with its address: nobody gets a mailing twice.
    c.prepare_cached(
        "UPDATE send SET contact_id = ?2, address_of = coalesce(address_of, ?1) WHERE contact_id = ?1 AND mailing_id NOT IN (SELECT mailing_id FROM send WHERE contact_id = ?2)",
    )?
    .execute([from.0, into.0])?;
    // They go on in a series that the other one isn't in, and have left what either has left. Taking the merge back leaves it so.
    c.prepare_cached("UPDATE series_entry SET ended_at = came_at, ended = 'merged with somebody inside', due = NULL WHERE contact_id = ?1 AND ended_at IS NULL AND series_id IN (SELECT series_id FROM series_entry WHERE contact_id = ?2 AND ended_at IS NULL)")?.execute([from.0, into.0])?;
    c.prepare_cached("UPDATE series_entry SET contact_id = ?2 WHERE contact_id = ?1 AND ended_at IS NULL")?.execute([from.0, into.0])?;
    c.prepare_cached("INSERT INTO series_left SELECT series_id, ?2, at FROM series_left WHERE contact_id = ?1 ON CONFLICT DO NOTHING")?
        .execute([from.0, into.0])?;
    let (number, their_number) = (numbers::held(c, into)?, numbers::held(c, from)?);
    let takes_over = number.phone.is_none() && their_number.phone.is_some();
    let into_run = c.prepare_cached("SELECT run_id FROM contact WHERE id = ?1")?.query_row([into.0], |r| r.get(0))?;
    let earlier = ids(c, "SELECT id FROM contact WHERE merged_into = ?1", [from.0])?;
    c.prepare_cached("UPDATE contact SET merged_into = ?2 WHERE merged_into = ?1")?.execute([from.0, into.0])?;

    rollups::again(c, from)?;
    rollups::again(c, into)?;
    let mut sets = moved.into_iter();
    let (lists, tags, topics) = (sets.next().unwrap_or_default(), sets.next().unwrap_or_default(), sets.next().unwrap_or_default());
    let before = Merged {
        into,
        into_run,
        profile,
        fields: fields_before,
        consent: a,
        lists,
        tags,
        topics,
        segments,
        purchases,
        events,
        scored,
        earlier,
        number,
    };
    runs::keep(c, run, from, &Image::Merge(Box::new(before)))?;
    runs::mark(c, into, Some(run))?;
    c.prepare_cached("UPDATE contact SET gone = 3, merged_into = ?2 WHERE id = ?1")?.execute([from.0, into.0])?;
    if takes_over {
        numbers::take_over(c, into, &their_number)?;
    }
    let both = strictest(a.consent, b.consent);
    let stricter = if both == a.consent { a } else { b };
    let evidence = format!("with {}, who was {}: the strictest holds", address(from)?, b.consent.words());
    let origin = Origin { source: "merge", evidence, run: Some(run), person, ..Origin::default() };
    ledger::restate(c, into, now, "merged", stricter, &origin)?;
    for other in ledger::others_of(c, from)? {
        let (a, b) = (ledger::stated_for(c, into, other.grant())?, ledger::stated_for(c, from, other.grant())?);
        // What was agreed for a number goes with it; a refusal of who stays is stricter.
        let with_number = other.channel == Channel::Text && takes_over && import_may_raise(a.consent) && a != b;
        if with_number || strictest(a.consent, other.state) != a.consent {
            let (channel, entity) = (other.channel, other.entity);
            ledger::restate(c, into, now, "merged", b, &Origin { channel, entity, ..origin.clone() })?;
        }
    }
    let origin = Origin { source: "merge", evidence: format!("into {}", address(into)?), run: Some(run), person, ..Origin::default() };
    ledger::note(c, from, now, "merged", &origin)
}

/// Parts two merged people again.
pub(crate) fn part(c: &Connection, from: ContactId, before: &Merged, now: Instant, origin: &Origin) -> Result<()> {
    let into = before.into;
    numbers::put_back(c, into, &before.number, now, origin)?;
    // A number that is somebody else's by now stays theirs.
    c.prepare_cached("UPDATE contact SET phone = NULL, phone_failed_at = NULL WHERE id = ?1 AND phone IN (SELECT phone FROM contact WHERE gone IS NULL AND id <> ?1)")?
        .execute([from.0])?;
    c.prepare_cached("UPDATE contact SET gone = NULL, merged_into = NULL WHERE id = ?1")?.execute([from.0])?;
    c.prepare_cached("UPDATE send SET contact_id = ?1, address_of = NULL WHERE contact_id = ?2 AND address_of = ?1")?
        .execute([from.0, into.0])?;
    for id in &before.earlier {
        c.prepare_cached("UPDATE contact SET merged_into = ?2 WHERE id = ?1")?.execute([id, &from.0])?;
        // Their messages moved on with the second merge.
        c.prepare_cached("UPDATE send SET contact_id = ?2 WHERE contact_id = ?3 AND address_of = ?1")?.execute([*id, from.0, into.0])?;
    }
    rollups::again(c, from)?;
    rollups::again(c, into)?;
    crate::clearing::warm::changed(c, into);
    for (id, list) in before.purchases.iter().map(|p| (p, "purchase")).chain(before.events.iter().map(|e| (e, "event"))) {
        c.prepare_cached(&format!("UPDATE {list} SET contact_id = ?2 WHERE id = ?1"))?.execute([*id, from.0])?;
    }
    scores::hand_on(c, into, from, Some(&before.scored))?;
    for ((table, column, when), sets) in MEMBERSHIPS.iter().zip([&before.lists, &before.tags, &before.topics]) {
        for (id, at, new) in sets {
            // The list may have been deleted meanwhile.
            let kept = table.split('_').next().unwrap_or_default().replace("contact", "tag");
            c.prepare_cached(&format!(
                "INSERT INTO {table} ({column}, contact_id, {when}) SELECT ?1, ?2, ?3 WHERE EXISTS (SELECT 1 FROM {kept} WHERE id = ?1) ON CONFLICT DO NOTHING"
            ))?
            .execute(params![id, from.0, at])?;
            if *new {
                c.prepare_cached(&format!("DELETE FROM {table} WHERE {column} = ?1 AND contact_id = ?2"))?.execute([id, &into.0])?;
            }
        }
    }
    for (segment, new) in &before.segments {
        c.prepare_cached(
            "INSERT INTO segment_member SELECT ?1, ?2 WHERE EXISTS (SELECT 1 FROM segment WHERE id = ?1 AND gone = 0) ON CONFLICT DO NOTHING",
        )?
        .execute([segment, &from.0])?;
        if *new {
            c.prepare_cached("DELETE FROM segment_member WHERE segment_id = ?1 AND contact_id = ?2")?.execute([segment, &into.0])?;
        }
    }
    contacts::replace_profile(c, into, &before.profile)?;
    for f in &before.fields {
        fields::put_back(c, into, f)?;
    }
    runs::mark(c, into, before.into_run)?;
    ledger::restate(c, into, now, "taken back", before.consent, origin)?;
    ledger::note(c, from, now, "taken back", origin)
}

/// Corrects a mistyped address, as a part of a run: the same person at another address, whose consent
/// starts at none, because nobody agreed for it. Merges when somebody has that address already.
/// Returns whom it was merged into.
///
/// # Errors
/// When the person is gone or in a trial that is still collecting.
pub fn correct(c: &Connection, run: i64, contact: ContactId, to: &Address, now: Instant, person: Option<i64>) -> Result<Option<ContactId>> {
    must_be_free(c, contact)?;
    if let Some(there) = contacts::id_of(c, &to.key)?.filter(|id| *id != contact) {
        merge(c, run, contact, there, now, person)?;
        return Ok(Some(there));
    }
    let (address, key, domain): (String, String, i64) = c
        .prepare_cached("SELECT address, address_key, domain_id FROM contact WHERE id = ?1")?
        .query_row([contact.0], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?;
    let consent = ledger::stated(c, contact)?;
    let evidence = format!("was {address}; nobody agreed for the new one");
    let key_now = to.key.clone();
    runs::keep(c, run, contact, &Image::Address { address, key, domain, consent })?;
    let domain = contacts::domain_id(c, &to.domain)?;
    c.prepare_cached("UPDATE contact SET address = ?2, address_key = ?3, domain_id = ?4 WHERE id = ?1")?
        .execute(params![contact.0, to.normal, to.key, domain])?;
    // The old address's bounces are none of the new one's.
    c.prepare_cached("UPDATE send SET address_of = ?1 WHERE contact_id = ?1 AND address_of IS NULL")?.execute([contact.0])?;
    let origin = Origin { source: "address corrected", evidence, run: Some(run), person, ..Origin::default() };
    // A refusal was the person's, whatever the address; a permission was the address's.
    let to = if import_may_raise(consent.consent) {
        Stated { consent: rinse_core::consent::Consent::None, at: Some(now.millis()), ..Stated::default() }
    } else {
        consent
    };
    ledger::restate(c, contact, now, "address changed", to, &origin)?;
    // What was agreed for their number doesn't depend on the address.
    for other in ledger::others_of(c, contact)?.into_iter().filter(|o| o.channel == Channel::Email) {
        if import_may_raise(other.state) {
            let none = Stated { at: Some(now.millis()), ..Stated::default() };
            ledger::restate(c, contact, now, "address changed", none, &Origin { entity: other.entity, ..origin.clone() })?;
        }
    }
    crate::upkeep::status::refresh(c, contact, now)?;
    crate::departed::settle(c, contact, &key_now)?;
    Ok(None)
}

/// Ends marketing to people for their silence, as a part of a run; consent and service mail stay, and any
/// answer or sign-up lifts it. Returns how many weren't sunset before.
///
/// # Errors
/// When the database fails.
pub fn sunset(c: &Connection, run: i64, contacts: &[ContactId], now: Instant, person: Option<i64>) -> Result<usize> {
    let began: i64 = c.query_row("SELECT at FROM change_run WHERE id = ?1", [run], |r| r.get(0))?;
    let mut n = 0;
    for contact in contacts {
        let origin = Origin { source: "sunset", run: Some(run), person, ..Origin::default() };
        if ledger::put_sunset(c, *contact, Instant::of(began), now, &origin)? {
            runs::keep(c, run, *contact, &Image::Sunset)?;
            n += 1;
        }
    }
    Ok(n)
}

/// Puts people on a list or a tag, as a part of a run. Returns how many are new to it.
///
/// # Errors
/// When it is gone.
pub fn put_on(c: &Connection, run: i64, kind: Kind, id: i64, contacts: &[ContactId], now: Instant) -> Result<usize> {
    let mut n = 0;
    for contact in contacts {
        if tags::put(c, kind, id, *contact, now)? > 0 {
            runs::keep(c, run, *contact, &Image::Put { list: kind == Kind::List, id })?;
            n += 1;
        }
    }
    Ok(n)
}
