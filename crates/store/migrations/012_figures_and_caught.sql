-- What a mailing's sends add up to, now by the day (UTC) of their turn and their class as well, so that the last days of
-- everything can be told at once. Kept by triggers: counted anew, it would take seconds over millions of sends.
--
-- A send comes without any of these instants, so nothing has to happen then: a trigger on INSERT would have SQLite keep a
-- copy of every page it touches, for each row. For the same reason the triggers that are left can't fail: their columns
-- may be null, and a row that is there already is no error.
DROP TRIGGER send_figures;
DROP TRIGGER send_figures_new;
DROP TABLE mailing_figure;
CREATE TABLE mailing_figure (
    mailing_id INTEGER, day INTEGER, class INTEGER,
    sent INTEGER DEFAULT 0, accepted INTEGER DEFAULT 0, failed INTEGER DEFAULT 0, opens INTEGER DEFAULT 0, clicks INTEGER DEFAULT 0,
    any_opens INTEGER DEFAULT 0, any_clicks INTEGER DEFAULT 0, complaints INTEGER DEFAULT 0, withdrawals INTEGER DEFAULT 0,
    UNIQUE (mailing_id, day, class)
);
CREATE INDEX mailing_figure_day ON mailing_figure (day);
INSERT INTO mailing_figure SELECT mailing_id, at / 86400000, class, count(handed_at), count(accepted_at), count(failed_at), count(open_at), count(click_at), count(any_open_at),
    count(any_click_at), count(complained_at), sum(left_at IS NOT NULL AND complained_at IS NULL) FROM send GROUP BY 1, 2, 3;
-- Only a value that comes or goes changes a count.
CREATE TRIGGER send_figures AFTER UPDATE OF handed_at, accepted_at, failed_at, open_at, click_at, any_open_at, any_click_at, complained_at, left_at ON send
WHEN new.at / 86400000 = old.at / 86400000 AND new.class = old.class AND (
    (new.handed_at IS NULL) <> (old.handed_at IS NULL) OR (new.accepted_at IS NULL) <> (old.accepted_at IS NULL) OR (new.failed_at IS NULL) <> (old.failed_at IS NULL) OR (new.open_at IS NULL) <> (old.open_at IS NULL) OR (new.click_at IS NULL) <> (old.click_at IS NULL) OR (new.any_open_at IS NULL) <> (old.any_open_at IS NULL) OR (new.any_click_at IS NULL) <> (old.any_click_at IS NULL) OR (new.complained_at IS NULL) <> (old.complained_at IS NULL) OR (new.left_at IS NULL) <> (old.left_at IS NULL))
BEGIN
    INSERT OR IGNORE INTO mailing_figure (mailing_id, day, class) VALUES (new.mailing_id, new.at / 86400000, new.class);
    UPDATE mailing_figure SET sent = sent + (old.handed_at IS NULL) - (new.handed_at IS NULL),
        accepted = accepted + (old.accepted_at IS NULL) - (new.accepted_at IS NULL),
        failed = failed + (old.failed_at IS NULL) - (new.failed_at IS NULL),
        opens = opens + (old.open_at IS NULL) - (new.open_at IS NULL),
        clicks = clicks + (old.click_at IS NULL) - (new.click_at IS NULL),
        any_opens = any_opens + (old.any_open_at IS NULL) - (new.any_open_at IS NULL),
        any_clicks = any_clicks + (old.any_click_at IS NULL) - (new.any_click_at IS NULL),
        complaints = complaints + (old.complained_at IS NULL) - (new.complained_at IS NULL),
        withdrawals = withdrawals + (new.left_at IS NOT NULL AND new.complained_at IS NULL) - (old.left_at IS NOT NULL AND old.complained_at IS NULL)
        WHERE mailing_id = new.mailing_id AND day = new.at / 86400000 AND class = new.class;
END;
-- A retry on another day, or another class: the whole send goes from one sum to another.
CREATE TRIGGER send_figures_moved AFTER UPDATE OF at, class ON send WHEN (new.at / 86400000 <> old.at / 86400000 OR new.class <> old.class)
    AND coalesce(old.handed_at, old.accepted_at, old.failed_at, old.open_at, old.click_at, old.any_open_at, old.any_click_at, old.complained_at, old.left_at,
        new.handed_at, new.accepted_at, new.failed_at, new.open_at, new.click_at, new.any_open_at, new.any_click_at, new.complained_at, new.left_at) IS NOT NULL
BEGIN
    UPDATE mailing_figure SET sent = sent - (old.handed_at IS NOT NULL),
        accepted = accepted - (old.accepted_at IS NOT NULL),
        failed = failed - (old.failed_at IS NOT NULL),
        opens = opens - (old.open_at IS NOT NULL),
        clicks = clicks - (old.click_at IS NOT NULL),
        any_opens = any_opens - (old.any_open_at IS NOT NULL),
        any_clicks = any_clicks - (old.any_click_at IS NOT NULL),
        complaints = complaints - (old.complained_at IS NOT NULL),
        withdrawals = withdrawals - (old.left_at IS NOT NULL AND old.complained_at IS NULL)
        WHERE mailing_id = old.mailing_id AND day = old.at / 86400000 AND class = old.class;
    INSERT OR IGNORE INTO mailing_figure (mailing_id, day, class) VALUES (new.mailing_id, new.at / 86400000, new.class);
    UPDATE mailing_figure SET sent = sent + (new.handed_at IS NOT NULL),
        accepted = accepted + (new.accepted_at IS NOT NULL),
        failed = failed + (new.failed_at IS NOT NULL),
        opens = opens + (new.open_at IS NOT NULL),
        clicks = clicks + (new.click_at IS NOT NULL),
        any_opens = any_opens + (new.any_open_at IS NOT NULL),
        any_clicks = any_clicks + (new.any_click_at IS NOT NULL),
        complaints = complaints + (new.complained_at IS NOT NULL),
        withdrawals = withdrawals + (new.left_at IS NOT NULL AND new.complained_at IS NULL)
        WHERE mailing_id = new.mailing_id AND day = new.at / 86400000 AND class = new.class;
END;
-- People by consent and mail status are counted along an index.
CREATE INDEX contact_standing ON contact (consent, status) WHERE gone IS NULL;
-- Whom a live rule of suppression caught, by the look that first found them; and when that was last looked at.
CREATE TABLE suppression_caught (
    list_id INTEGER NOT NULL REFERENCES suppression_list, contact_id INTEGER NOT NULL REFERENCES contact, at INTEGER NOT NULL, PRIMARY KEY (list_id, contact_id)
) WITHOUT ROWID;
CREATE INDEX suppression_caught_contact ON suppression_caught (contact_id);
ALTER TABLE suppression_list ADD COLUMN caught_at INTEGER;
-- A mailing whose people are being put on record, in parts.
ALTER TABLE mailing ADD COLUMN recording INTEGER NOT NULL DEFAULT 0;
