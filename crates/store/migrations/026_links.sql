-- What people and machines did to each link, kept as they follow it. people and reached: messages.
CREATE TABLE link_cell (
    mailing_id INTEGER, position INTEGER, arm INTEGER, people INTEGER DEFAULT 0, clicks INTEGER DEFAULT 0, reached INTEGER DEFAULT 0, machine_clicks INTEGER DEFAULT 0,
    UNIQUE (mailing_id, position, arm)
);
INSERT INTO link_cell SELECT s.mailing_id, r.link, s.arm, count(DISTINCT iif(r.machine = 0, r.send_id, NULL)), count(iif(r.machine = 0, 1, NULL)),
    count(DISTINCT r.send_id), count(iif(r.machine <> 0, 1, NULL))
    FROM response r JOIN send s ON s.id = r.send_id WHERE r.kind = 2 AND r.link IS NOT NULL GROUP BY 1, 2, 3;
CREATE TRIGGER link_followed AFTER INSERT ON response WHEN new.kind = 2 AND new.link IS NOT NULL
BEGIN
    INSERT OR IGNORE INTO link_cell (mailing_id, position, arm) SELECT mailing_id, new.link, arm FROM send WHERE id = new.send_id;
    UPDATE link_cell SET clicks = clicks + (new.machine = 0), machine_clicks = machine_clicks + (new.machine <> 0),
        people = people + (new.machine = 0 AND NOT EXISTS (SELECT 1 FROM response r WHERE r.send_id = new.send_id AND r.kind = 2 AND r.link = new.link AND r.machine = 0 AND r.id <> new.id)),
        reached = reached + NOT EXISTS (SELECT 1 FROM response r WHERE r.send_id = new.send_id AND r.kind = 2 AND r.link = new.link AND r.id <> new.id)
    WHERE position = new.link AND (mailing_id, arm) = (SELECT mailing_id, arm FROM send WHERE id = new.send_id);
END;
CREATE TRIGGER link_judged AFTER UPDATE OF machine ON response WHEN new.kind = 2 AND new.link IS NOT NULL AND (new.machine = 0) <> (old.machine = 0)
BEGIN
    UPDATE link_cell SET clicks = clicks + iif(new.machine = 0, 1, -1), machine_clicks = machine_clicks - iif(new.machine = 0, 1, -1),
        people = people + iif(EXISTS (SELECT 1 FROM response r WHERE r.send_id = new.send_id AND r.kind = 2 AND r.link = new.link AND r.machine = 0 AND r.id <> new.id),
            0, iif(new.machine = 0, 1, -1))
    WHERE position = new.link AND (mailing_id, arm) = (SELECT mailing_id, arm FROM send WHERE id = new.send_id);
END;
