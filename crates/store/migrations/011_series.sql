-- A message of a series goes to somebody once for each time they enter it: one send per contact, mailing and cause. SQLite
-- can't change a table's key, so the table is written anew.
CREATE TABLE send_anew (
    id INTEGER PRIMARY KEY, mailing_id INTEGER NOT NULL REFERENCES mailing, contact_id INTEGER NOT NULL REFERENCES contact,
    -- cause: 1 the mailing itself (cause_id is its number), 2 a series (cause_id is the entry's); phase: 0 whole audience, 1 pilot,
    -- 2 rollout, 3 rollout check
    cause INTEGER NOT NULL DEFAULT 1, cause_id INTEGER NOT NULL, phase INTEGER NOT NULL DEFAULT 0, arm INTEGER NOT NULL DEFAULT 0,
    channel INTEGER NOT NULL DEFAULT 1, class INTEGER NOT NULL DEFAULT 1, rules_version INTEGER REFERENCES rules_version,
    -- 0 held, 1 ready, 2 handing over, 3 accepted, 4 deferred, 5 failed, 6 barred, 7 in doubt
    state INTEGER NOT NULL, at INTEGER NOT NULL, give_up_at INTEGER NOT NULL, tries INTEGER NOT NULL DEFAULT 0,
    reason INTEGER, handed_at INTEGER, accepted_at INTEGER, failed_at INTEGER, category INTEGER, reply TEXT,
    open_at INTEGER, any_open_at INTEGER, click_at INTEGER, any_click_at INTEGER, reply_at INTEGER,
    left_at INTEGER, complained_at INTEGER, address_of INTEGER REFERENCES contact, priority INTEGER NOT NULL DEFAULT 3,
    -- the earliest click by the rules that don't hang on the message's own links, which trials count; how somebody left by the message
    trial_click_at INTEGER, topic_left_at INTEGER, series_left_at INTEGER, paused_at INTEGER, withdrew_at INTEGER,
    UNIQUE (mailing_id, contact_id, cause, cause_id)
);
INSERT INTO send_anew SELECT id, mailing_id, contact_id, cause, cause_id, phase, arm, channel, class, rules_version, state, at, give_up_at, tries, reason,
    handed_at, accepted_at, failed_at, category, reply, open_at, any_open_at, click_at, any_click_at, reply_at, left_at, complained_at, address_of, priority,
    CASE WHEN any_click_at IS NOT NULL THEN (SELECT min(at) FROM response r WHERE r.send_id = send.id AND r.kind = 2 AND r.machine IN (0, 4)) END, NULL, NULL, NULL, NULL FROM send;
UPDATE send_anew SET topic_left_at = l.at FROM (SELECT send_id, min(at) AS at FROM ledger WHERE kind = 'left topic' AND send_id IS NOT NULL GROUP BY send_id) l WHERE l.send_id = send_anew.id;
UPDATE send_anew SET paused_at = l.at FROM (SELECT send_id, min(at) AS at FROM ledger WHERE kind = 'paused' AND send_id IS NOT NULL GROUP BY send_id) l WHERE l.send_id = send_anew.id;
UPDATE send_anew SET withdrew_at = l.at FROM (SELECT send_id, min(at) AS at FROM ledger WHERE kind = 'withdrew' AND send_id IS NOT NULL GROUP BY send_id) l WHERE l.send_id = send_anew.id;
UPDATE send_anew SET left_at = min(coalesce(left_at, paused_at), paused_at) WHERE paused_at IS NOT NULL;
UPDATE send_anew SET left_at = min(coalesce(left_at, withdrew_at), withdrew_at) WHERE withdrew_at IS NOT NULL;
UPDATE send_anew SET left_at = min(coalesce(left_at, topic_left_at), topic_left_at) WHERE topic_left_at IS NOT NULL;
DROP TABLE send;
ALTER TABLE send_anew RENAME TO send;
CREATE INDEX send_due ON send (at, priority, mailing_id, id) WHERE state IN (0, 1, 4);
CREATE INDEX send_handing ON send (id) WHERE state IN (2, 7);
CREATE INDEX send_recent ON send (at, contact_id, mailing_id, state, handed_at) WHERE class = 1;
CREATE INDEX send_contact ON send (contact_id, id);
CREATE INDEX send_accepted ON send (accepted_at) WHERE accepted_at IS NOT NULL;
CREATE INDEX send_failed ON send (failed_at) WHERE failed_at IS NOT NULL;
CREATE INDEX send_series ON send (cause_id, mailing_id) WHERE cause = 2;

-- state: draft, running, ended.
CREATE TABLE series (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL, letterhead_id INTEGER NOT NULL REFERENCES letterhead, outline TEXT NOT NULL,
    state TEXT NOT NULL DEFAULT 'draft', made_at INTEGER NOT NULL, person_id INTEGER REFERENCES person,
    started_at INTEGER, paused_at INTEGER, ended_at INTEGER, looked_at INTEGER
);
CREATE UNIQUE INDEX series_name ON series (name COLLATE NOCASE) WHERE ended_at IS NULL;
ALTER TABLE mailing ADD COLUMN series_id INTEGER REFERENCES series;
-- One row for each time somebody enters. due: when to look at them next; null: something has to happen first.
CREATE TABLE series_entry (
    id INTEGER PRIMARY KEY, series_id INTEGER NOT NULL REFERENCES series, contact_id INTEGER NOT NULL REFERENCES contact, at INTEGER NOT NULL,
    cause TEXT NOT NULL, step INTEGER NOT NULL, came_at INTEGER NOT NULL, due INTEGER, ended_at INTEGER, ended TEXT
);
CREATE UNIQUE INDEX series_entry_inside ON series_entry (series_id, contact_id) WHERE ended_at IS NULL;
CREATE INDEX series_entry_due ON series_entry (due) WHERE ended_at IS NULL AND due IS NOT NULL;
CREATE INDEX series_entry_contact ON series_entry (contact_id, series_id);
CREATE INDEX series_entry_series ON series_entry (series_id, ended_at, step);
-- The steps that somebody has been through, and how they left each.
CREATE TABLE series_passage (
    entry_id INTEGER NOT NULL REFERENCES series_entry, step INTEGER NOT NULL, series_id INTEGER NOT NULL, came_at INTEGER NOT NULL, gone_at INTEGER NOT NULL,
    how TEXT NOT NULL, PRIMARY KEY (entry_id, step)
) WITHOUT ROWID;
CREATE INDEX series_passage_step ON series_passage (series_id, step, how);
-- Who left a series by their own choice: they don't enter it again.
CREATE TABLE series_left (series_id INTEGER NOT NULL REFERENCES series, contact_id INTEGER NOT NULL REFERENCES contact, at INTEGER NOT NULL, PRIMARY KEY (series_id, contact_id)) WITHOUT ROWID;
-- Who was in the segment at the last look, so that joining it shows.
CREATE TABLE series_seen (series_id INTEGER NOT NULL REFERENCES series, contact_id INTEGER NOT NULL REFERENCES contact, PRIMARY KEY (series_id, contact_id)) WITHOUT ROWID;
-- How far responses, purchases and events have been looked at.
CREATE TABLE series_mark (id INTEGER PRIMARY KEY CHECK (id = 1), response INTEGER NOT NULL, purchase INTEGER NOT NULL, event INTEGER NOT NULL);
INSERT INTO series_mark VALUES (1, 0, 0, 0);
-- What became of a message is what somebody at its step waits for.
CREATE TRIGGER send_of_series AFTER UPDATE OF state ON send WHEN new.cause = 2 AND new.state IN (3, 5, 6) AND old.state <> new.state
BEGIN UPDATE series_entry SET due = new.at WHERE id = new.cause_id AND ended_at IS NULL AND due IS NULL; END;
-- Tasks come from reactions and from series.
CREATE TABLE task_anew (
    id INTEGER PRIMARY KEY, at INTEGER NOT NULL, reaction_id INTEGER REFERENCES reaction, series_id INTEGER REFERENCES series,
    contact_id INTEGER NOT NULL REFERENCES contact, words TEXT NOT NULL, done_at INTEGER, person_id INTEGER REFERENCES person
);
INSERT INTO task_anew (id, at, reaction_id, contact_id, words, done_at, person_id) SELECT id, at, reaction_id, contact_id, words, done_at, person_id FROM task;
DROP TABLE task;
ALTER TABLE task_anew RENAME TO task;
CREATE INDEX task_open ON task (at) WHERE done_at IS NULL;
-- What a mailing's sends add up to, kept as they change: counted anew, a report on twenty million of them would take seconds.
CREATE TABLE mailing_figure (
    mailing_id INTEGER PRIMARY KEY, sent INTEGER NOT NULL, accepted INTEGER NOT NULL, failed INTEGER NOT NULL, opens INTEGER NOT NULL, clicks INTEGER NOT NULL,
    any_opens INTEGER NOT NULL, any_clicks INTEGER NOT NULL, complaints INTEGER NOT NULL, withdrawals INTEGER NOT NULL
);
INSERT INTO mailing_figure SELECT mailing_id, count(handed_at), count(accepted_at), count(failed_at), count(open_at), count(click_at), count(any_open_at), count(any_click_at),
    count(complained_at), sum(left_at IS NOT NULL AND complained_at IS NULL) FROM send GROUP BY mailing_id;
CREATE TRIGGER send_figures_new AFTER INSERT ON send WHEN new.handed_at IS NOT NULL OR new.accepted_at IS NOT NULL OR new.failed_at IS NOT NULL OR new.any_open_at IS NOT NULL
    OR new.open_at IS NOT NULL OR new.click_at IS NOT NULL OR new.any_click_at IS NOT NULL OR new.complained_at IS NOT NULL OR new.left_at IS NOT NULL
BEGIN
    INSERT INTO mailing_figure VALUES (new.mailing_id, new.handed_at IS NOT NULL, new.accepted_at IS NOT NULL, new.failed_at IS NOT NULL, new.open_at IS NOT NULL,
        new.click_at IS NOT NULL, new.any_open_at IS NOT NULL, new.any_click_at IS NOT NULL, new.complained_at IS NOT NULL, new.left_at IS NOT NULL AND new.complained_at IS NULL)
    ON CONFLICT DO UPDATE SET sent = sent + excluded.sent, accepted = accepted + excluded.accepted, failed = failed + excluded.failed, opens = opens + excluded.opens,
        clicks = clicks + excluded.clicks, any_opens = any_opens + excluded.any_opens, any_clicks = any_clicks + excluded.any_clicks,
        complaints = complaints + excluded.complaints, withdrawals = withdrawals + excluded.withdrawals;
END;
-- Only a value that comes or goes changes a count.
CREATE TRIGGER send_figures AFTER UPDATE OF handed_at, accepted_at, failed_at, open_at, click_at, any_open_at, any_click_at, complained_at, left_at ON send
WHEN (new.handed_at IS NULL) <> (old.handed_at IS NULL) OR (new.accepted_at IS NULL) <> (old.accepted_at IS NULL) OR (new.failed_at IS NULL) <> (old.failed_at IS NULL)
    OR (new.open_at IS NULL) <> (old.open_at IS NULL) OR (new.click_at IS NULL) <> (old.click_at IS NULL) OR (new.any_open_at IS NULL) <> (old.any_open_at IS NULL)
    OR (new.any_click_at IS NULL) <> (old.any_click_at IS NULL) OR (new.complained_at IS NULL) <> (old.complained_at IS NULL) OR (new.left_at IS NULL) <> (old.left_at IS NULL)
BEGIN
    INSERT INTO mailing_figure VALUES (new.mailing_id, 0, 0, 0, 0, 0, 0, 0, 0, 0) ON CONFLICT DO NOTHING;
    UPDATE mailing_figure SET sent = sent + (old.handed_at IS NULL) - (new.handed_at IS NULL), accepted = accepted + (old.accepted_at IS NULL) - (new.accepted_at IS NULL),
        failed = failed + (old.failed_at IS NULL) - (new.failed_at IS NULL), opens = opens + (old.open_at IS NULL) - (new.open_at IS NULL),
        clicks = clicks + (old.click_at IS NULL) - (new.click_at IS NULL), any_opens = any_opens + (old.any_open_at IS NULL) - (new.any_open_at IS NULL),
        any_clicks = any_clicks + (old.any_click_at IS NULL) - (new.any_click_at IS NULL), complaints = complaints + (old.complained_at IS NULL) - (new.complained_at IS NULL),
        withdrawals = withdrawals + (new.left_at IS NOT NULL AND new.complained_at IS NULL) - (old.left_at IS NOT NULL AND old.complained_at IS NULL)
        WHERE mailing_id = new.mailing_id;
END;
