-- The upkeep policy in its versions: the newest is in force.
CREATE TABLE upkeep_policy (
    id INTEGER PRIMARY KEY, at INTEGER NOT NULL, person_id INTEGER REFERENCES person, policy TEXT NOT NULL, note TEXT NOT NULL DEFAULT ''
);
INSERT INTO upkeep_policy (at, policy, note) VALUES (0, '{"delivered_after_days":5,"no_such_address_rest_days":30,"no_such_address_apart_hours":24,"permanent_mailings":2,"permanent_days":7,"permanent_by_hand":false,"temporary_mailings":3,"temporary_days":10,"rests_days":[7,21,63],"observed_mailings":4,"observed_failures":2,"incident_times":10,"incident_addresses":20,"retires":{"how":"at_once"}}', 'As Rinse comes');
-- By the day (UTC) of the outcome, domain and mailing: messages with an outcome, and those that failed in a way that counts against the address. Kept for
-- a little longer than the norm looks back.
CREATE TABLE domain_failure (
    day INTEGER NOT NULL, domain_id INTEGER NOT NULL REFERENCES domain, mailing_id INTEGER NOT NULL REFERENCES mailing,
    messages INTEGER NOT NULL DEFAULT 0, failures INTEGER NOT NULL DEFAULT 0, PRIMARY KEY (day, domain_id, mailing_id)
) WITHOUT ROWID;
INSERT INTO domain_failure SELECT coalesce(s.accepted_at, s.failed_at) / 86400000, k.domain_id, s.mailing_id, count(*), coalesce(sum(s.failed_at IS NOT NULL AND s.category IN (1, 2, 3, 4, 5, 10)), 0)
    FROM send s JOIN contact k ON k.id = s.contact_id
    WHERE s.channel = 1 AND coalesce(s.accepted_at, s.failed_at) >= (SELECT max(at) FROM send) - 7776000000 GROUP BY 1, 2, 3;
-- Failures of one mailing at one domain that wait for a person. Decision: null not decided, 0 they don't count, 1 they count.
CREATE TABLE incident (
    id INTEGER PRIMARY KEY, mailing_id INTEGER NOT NULL REFERENCES mailing, domain_id INTEGER NOT NULL REFERENCES domain, opened_at INTEGER NOT NULL,
    -- the mailing's messages there, once it is decided: what they are counted from is forgotten later
    messages INTEGER,
    -- what was usual: group, base, usual
    norm_of TEXT NOT NULL, norm_failures INTEGER NOT NULL, norm_messages INTEGER NOT NULL,
    decision INTEGER, decided_at INTEGER, person_id INTEGER REFERENCES person, reason TEXT NOT NULL DEFAULT '', UNIQUE (mailing_id, domain_id)
);
CREATE INDEX send_failure ON send (mailing_id, contact_id) WHERE failed_at IS NOT NULL;
-- Why an address stands where it stands, by the numbers of crates/core.
ALTER TABLE contact ADD COLUMN status_cause INTEGER NOT NULL DEFAULT 0;
UPDATE contact SET status_at = added_at WHERE status <> 0 AND status_at IS NULL;
CREATE INDEX contact_cause ON contact (status, status_cause, status_until, gone) WHERE status <> 0;
CREATE INDEX contact_since ON contact (status, status_at, id) WHERE status <> 0;
-- People whose status is to be worked out again.
CREATE TABLE status_due (contact_id INTEGER PRIMARY KEY REFERENCES contact);
INSERT INTO status_due SELECT id FROM contact WHERE status <> 0 AND gone IS NULL;
-- A cleaning run: proposed, then read by a person, applied, and undone within 30 days.
CREATE TABLE cleaning_run (
    id INTEGER PRIMARY KEY, kind TEXT NOT NULL, state TEXT NOT NULL, made_at INTEGER NOT NULL, person_id INTEGER REFERENCES person, note TEXT NOT NULL DEFAULT '',
    -- the version of the policy that it brings into force, when it is of one
    policy_id INTEGER REFERENCES upkeep_policy, policy TEXT, applied_at INTEGER, undone_at INTEGER, effect TEXT,
    -- how many by cause, while nobody's part in it changes: counting a large run takes long
    counted TEXT,
    send_mark INTEGER, response_mark INTEGER, purchase_mark INTEGER
);
-- State: 0 proposed, 1 taken out, 2 applied, 3 put back, 4 could not be put back.
CREATE TABLE cleaning_member (
    run_id INTEGER NOT NULL REFERENCES cleaning_run, contact_id INTEGER NOT NULL REFERENCES contact, state INTEGER NOT NULL DEFAULT 0, cause INTEGER NOT NULL,
    status_before INTEGER NOT NULL, until_before INTEGER, cause_before INTEGER NOT NULL, status_after INTEGER NOT NULL, until_after INTEGER, why TEXT NOT NULL,
    -- their newest entry in the ledger when the run was applied to them
    ledger_mark INTEGER,
    PRIMARY KEY (run_id, contact_id)
) WITHOUT ROWID;
CREATE INDEX cleaning_member_state ON cleaning_member (run_id, state, cause, contact_id);
-- What a run, or undoing it, wrote: the fold goes on from there.
CREATE TABLE status_set (
    id INTEGER PRIMARY KEY, contact_id INTEGER NOT NULL REFERENCES contact, at INTEGER NOT NULL, status INTEGER NOT NULL, until INTEGER,
    cause INTEGER NOT NULL, why TEXT NOT NULL, run_id INTEGER REFERENCES cleaning_run
);
CREATE INDEX status_set_contact ON status_set (contact_id, at);
-- What the base was made of at the beginning of each day (UTC).
CREATE TABLE base_day (
    day INTEGER PRIMARY KEY, active INTEGER NOT NULL, resting INTEGER NOT NULL, observed INTEGER NOT NULL, retired INTEGER NOT NULL, sunset INTEGER NOT NULL
);
