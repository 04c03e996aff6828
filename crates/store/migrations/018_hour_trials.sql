-- Hour trials: plan and seal, what was read.
CREATE TABLE hour_trial (
    id INTEGER PRIMARY KEY, plan TEXT NOT NULL,
    -- planned, collecting, read, ended
    state TEXT NOT NULL, made_at INTEGER NOT NULL, person_id INTEGER REFERENCES person,
    seed INTEGER, digest TEXT, sealed_at INTEGER, reading_due INTEGER, read_at INTEGER, reading TEXT
);
-- The rounds of a sealed plan, from 0, each a mailing.
CREATE TABLE hour_round (
    trial_id INTEGER NOT NULL REFERENCES hour_trial, round INTEGER NOT NULL, mailing_id INTEGER NOT NULL REFERENCES mailing, day INTEGER NOT NULL,
    -- what it said at the seal: JSON
    content TEXT NOT NULL, drawn_at INTEGER, digest TEXT,
    -- names of the time zones, by their number in the roster: JSON
    zones TEXT NOT NULL DEFAULT '{}',
    -- why nobody was drawn
    missed TEXT, PRIMARY KEY (trial_id, round)
) WITHOUT ROWID;
CREATE UNIQUE INDEX hour_round_mailing ON hour_round (mailing_id) WHERE missed IS NULL;
-- Who was drawn to which hour, and when that is on their clock.
CREATE TABLE hour_roster (
    mailing_id INTEGER NOT NULL REFERENCES mailing, contact_id INTEGER NOT NULL REFERENCES contact, zone INTEGER NOT NULL, stratum INTEGER NOT NULL,
    hour INTEGER NOT NULL, due INTEGER NOT NULL, opens_unknown INTEGER NOT NULL, PRIMARY KEY (mailing_id, contact_id)
) WITHOUT ROWID;
