-- The name a variant is sent under and the address its replies go to; empty: the letterhead's.
ALTER TABLE variant ADD COLUMN sender_name TEXT NOT NULL DEFAULT '';
ALTER TABLE variant ADD COLUMN reply_to TEXT NOT NULL DEFAULT '';
-- Who of a trial's roster was in its subgroups when it was sealed.
CREATE TABLE roster_group (
    trial_id INTEGER NOT NULL REFERENCES trial, place INTEGER NOT NULL, contact_id INTEGER NOT NULL, PRIMARY KEY (trial_id, place, contact_id)
) WITHOUT ROWID;
-- A plain mailing's people split at random into two halves that get the same: a check of ourselves. Written before it goes
-- out, read once its window is over.
CREATE TABLE self_check (
    mailing_id INTEGER PRIMARY KEY REFERENCES mailing, seed INTEGER NOT NULL, made_at INTEGER NOT NULL, read_at INTEGER,
    -- JSON: for each metric its two halves and the p of their difference
    found TEXT
);
-- What a reading rested on beside the counts, as it was read: JSON.
ALTER TABLE trial ADD COLUMN beside TEXT;
