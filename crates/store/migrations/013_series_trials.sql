-- Trials that people enter one by one, as they come to a step of a series. When the last planned person has come, or
-- somebody ended the enrolment before that, and why.
ALTER TABLE trial ADD COLUMN enrolled_at INTEGER;
ALTER TABLE trial ADD COLUMN enrolment_words TEXT NOT NULL DEFAULT '';
-- The parts that each arm has of those who come (JSON; 0: closed), from an instant on. In the roster of such a trial the
-- stratum is the stretch that somebody came in.
CREATE TABLE trial_stretch (
    trial_id INTEGER NOT NULL REFERENCES trial, place INTEGER NOT NULL, began_at INTEGER NOT NULL, parts TEXT NOT NULL,
    -- how many of the roster came in it, arm by arm (JSON): counted anew at each handover, a long trial would slow every message
    people TEXT NOT NULL,
    person_id INTEGER REFERENCES person, why TEXT NOT NULL, digest TEXT NOT NULL, PRIMARY KEY (trial_id, place)
) WITHOUT ROWID;
