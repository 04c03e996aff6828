-- What a mailing's sends add up to, now by the day (UTC) of their turn and their class as well, so that the last days of
-- everything can be told at once. Kept by triggers: counted anew, it would take seconds over millions of sends.
DROP TRIGGER send_figures;
DROP TRIGGER send_figures_new;
DROP TABLE mailing_figure;
CREATE TABLE mailing_figure (
    mailing_id INTEGER NOT NULL, day INTEGER NOT NULL, class INTEGER NOT NULL,
    sent INTEGER NOT NULL, accepted INTEGER NOT NULL, failed INTEGER NOT NULL, opens INTEGER NOT NULL, clicks INTEGER NOT NULL,
    any_opens INTEGER NOT NULL, any_clicks INTEGER NOT NULL, complaints INTEGER NOT NULL, withdrawals INTEGER NOT NULL,
    PRIMARY KEY (mailing_id, day, class)
) WITHOUT ROWID;
CREATE INDEX mailing_figure_day ON mailing_figure (day);
INSERT INTO mailing_figure SELECT mailing_id, at / 86400000, class, count(handed_at), count(accepted_at), count(failed_at), count(open_at), count(click_at), count(any_open_at),
    count(any_click_at), count(complained_at), sum(left_at IS NOT NULL AND complained_at IS NULL) FROM send GROUP BY 1, 2, 3;
CREATE TRIGGER send_figures_new AFTER INSERT ON send WHEN new.handed_at IS NOT NULL OR new.accepted_at IS NOT NULL OR new.failed_at IS NOT NULL OR new.any_open_at IS NOT NULL
    OR new.open_at IS NOT NULL OR new.click_at IS NOT NULL OR new.any_click_at IS NOT NULL OR new.complained_at IS NOT NULL OR new.left_at IS NOT NULL
BEGIN
    INSERT INTO mailing_figure VALUES (new.mailing_id, new.at / 86400000, new.class, new.handed_at IS NOT NULL, new.accepted_at IS NOT NULL, new.failed_at IS NOT NULL,
        new.open_at IS NOT NULL, new.click_at IS NOT NULL, new.any_open_at IS NOT NULL, new.any_click_at IS NOT NULL, new.complained_at IS NOT NULL,
        new.left_at IS NOT NULL AND new.complained_at IS NULL)
    ON CONFLICT DO UPDATE SET sent = sent + excluded.sent, accepted = accepted + excluded.accepted, failed = failed + excluded.failed, opens = opens + excluded.opens,
        clicks = clicks + excluded.clicks, any_opens = any_opens + excluded.any_opens, any_clicks = any_clicks + excluded.any_clicks,
        complaints = complaints + excluded.complaints, withdrawals = withdrawals + excluded.withdrawals;
END;
-- Only a value that comes or goes changes a count.
CREATE TRIGGER send_figures AFTER UPDATE OF handed_at, accepted_at, failed_at, open_at, click_at, any_open_at, any_click_at, complained_at, left_at ON send
WHEN new.at / 86400000 = old.at / 86400000 AND new.class = old.class AND (
    (new.handed_at IS NULL) <> (old.handed_at IS NULL) OR (new.accepted_at IS NULL) <> (old.accepted_at IS NULL) OR (new.failed_at IS NULL) <> (old.failed_at IS NULL)
    OR (new.open_at IS NULL) <> (old.open_at IS NULL) OR (new.click_at IS NULL) <> (old.click_at IS NULL) OR (new.any_open_at IS NULL) <> (old.any_open_at IS NULL)
    OR (new.any_click_at IS NULL) <> (old.any_click_at IS NULL) OR (new.complained_at IS NULL) <> (old.complained_at IS NULL) OR (new.left_at IS NULL) <> (old.left_at IS NULL))
BEGIN
    INSERT INTO mailing_figure VALUES (new.mailing_id, new.at / 86400000, new.class, 0, 0, 0, 0, 0, 0, 0, 0, 0) ON CONFLICT DO NOTHING;
    UPDATE mailing_figure SET sent = sent + (old.handed_at IS NULL) - (new.handed_at IS NULL), accepted = accepted + (old.accepted_at IS NULL) - (new.accepted_at IS NULL),
        failed = failed + (old.failed_at IS NULL) - (new.failed_at IS NULL), opens = opens + (old.open_at IS NULL) - (new.open_at IS NULL),
        clicks = clicks + (old.click_at IS NULL) - (new.click_at IS NULL), any_opens = any_opens + (old.any_open_at IS NULL) - (new.any_open_at IS NULL),
        any_clicks = any_clicks + (old.any_click_at IS NULL) - (new.any_click_at IS NULL), complaints = complaints + (old.complained_at IS NULL) - (new.complained_at IS NULL),
        withdrawals = withdrawals + (new.left_at IS NOT NULL AND new.complained_at IS NULL) - (old.left_at IS NOT NULL AND old.complained_at IS NULL)
        WHERE mailing_id = new.mailing_id AND day = new.at / 86400000 AND class = new.class;
END;
-- A retry on another day, or another class: the whole send goes from one sum to another.
CREATE TRIGGER send_figures_moved AFTER UPDATE OF at, class ON send WHEN (new.at / 86400000 <> old.at / 86400000 OR new.class <> old.class)
    AND coalesce(old.handed_at, old.accepted_at, old.failed_at, old.open_at, old.click_at, old.any_open_at, old.any_click_at, old.complained_at, old.left_at,
        new.handed_at, new.accepted_at, new.failed_at, new.open_at, new.click_at, new.any_open_at, new.any_click_at, new.complained_at, new.left_at) IS NOT NULL
BEGIN
    UPDATE mailing_figure SET sent = sent - (old.handed_at IS NOT NULL), accepted = accepted - (old.accepted_at IS NOT NULL), failed = failed - (old.failed_at IS NOT NULL),
        opens = opens - (old.open_at IS NOT NULL), clicks = clicks - (old.click_at IS NOT NULL), any_opens = any_opens - (old.any_open_at IS NOT NULL),
        any_clicks = any_clicks - (old.any_click_at IS NOT NULL), complaints = complaints - (old.complained_at IS NOT NULL),
        withdrawals = withdrawals - (old.left_at IS NOT NULL AND old.complained_at IS NULL)
        WHERE mailing_id = old.mailing_id AND day = old.at / 86400000 AND class = old.class;
    INSERT INTO mailing_figure VALUES (new.mailing_id, new.at / 86400000, new.class, new.handed_at IS NOT NULL, new.accepted_at IS NOT NULL, new.failed_at IS NOT NULL,
        new.open_at IS NOT NULL, new.click_at IS NOT NULL, new.any_open_at IS NOT NULL, new.any_click_at IS NOT NULL, new.complained_at IS NOT NULL,
        new.left_at IS NOT NULL AND new.complained_at IS NULL)
    ON CONFLICT DO UPDATE SET sent = sent + excluded.sent, accepted = accepted + excluded.accepted, failed = failed + excluded.failed, opens = opens + excluded.opens,
        clicks = clicks + excluded.clicks, any_opens = any_opens + excluded.any_opens, any_clicks = any_clicks + excluded.any_clicks,
        complaints = complaints + excluded.complaints, withdrawals = withdrawals + excluded.withdrawals;
END;
-- People who aren't gone, by consent and mail status.
CREATE TABLE standing_figure (consent INTEGER NOT NULL, status INTEGER NOT NULL, people INTEGER NOT NULL, PRIMARY KEY (consent, status)) WITHOUT ROWID;
INSERT INTO standing_figure SELECT consent, status, count(*) FROM contact WHERE gone IS NULL GROUP BY 1, 2;
CREATE TRIGGER contact_stands_new AFTER INSERT ON contact WHEN new.gone IS NULL
BEGIN INSERT INTO standing_figure VALUES (new.consent, new.status, 1) ON CONFLICT DO UPDATE SET people = people + 1; END;
CREATE TRIGGER contact_stands AFTER UPDATE OF consent, status, gone ON contact
WHEN new.consent <> old.consent OR new.status <> old.status OR (new.gone IS NULL) <> (old.gone IS NULL)
BEGIN
    UPDATE standing_figure SET people = people - 1 WHERE old.gone IS NULL AND consent = old.consent AND status = old.status;
    INSERT INTO standing_figure SELECT new.consent, new.status, 1 WHERE new.gone IS NULL ON CONFLICT DO UPDATE SET people = people + 1;
END;
CREATE TRIGGER contact_stands_no_more AFTER DELETE ON contact WHEN old.gone IS NULL
BEGIN UPDATE standing_figure SET people = people - 1 WHERE consent = old.consent AND status = old.status; END;
