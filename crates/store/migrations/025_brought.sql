-- What people's purchases and events are put down to, and the sums of it; who is to be put down anew. Keys of goals that are gone stay until then.
CREATE TABLE brought (
    contact_id INTEGER NOT NULL, mailing_id INTEGER NOT NULL, goal_id INTEGER NOT NULL, day INTEGER NOT NULL, conversions INTEGER NOT NULL, cents INTEGER NOT NULL,
    PRIMARY KEY (contact_id, mailing_id, goal_id, day)
) WITHOUT ROWID;
CREATE TABLE brought_figure (
    mailing_id INTEGER NOT NULL, goal_id INTEGER NOT NULL, day INTEGER NOT NULL, people INTEGER NOT NULL, conversions INTEGER NOT NULL, cents INTEGER NOT NULL,
    PRIMARY KEY (goal_id, mailing_id, day)
) WITHOUT ROWID;
CREATE TABLE brought_due (contact_id INTEGER PRIMARY KEY);
CREATE TRIGGER purchase_made AFTER INSERT ON purchase BEGIN INSERT OR IGNORE INTO brought_due VALUES (new.contact_id); END;
CREATE TRIGGER purchase_changed AFTER UPDATE ON purchase BEGIN INSERT OR IGNORE INTO brought_due VALUES (old.contact_id), (new.contact_id); END;
CREATE TRIGGER purchase_gone AFTER DELETE ON purchase BEGIN INSERT OR IGNORE INTO brought_due VALUES (old.contact_id); END;
CREATE TRIGGER event_happened AFTER INSERT ON event BEGIN INSERT OR IGNORE INTO brought_due VALUES (new.contact_id); END;
CREATE TRIGGER event_changed AFTER UPDATE OF contact_id, at, name ON event BEGIN INSERT OR IGNORE INTO brought_due VALUES (old.contact_id), (new.contact_id); END;
CREATE TRIGGER event_gone AFTER DELETE ON event BEGIN INSERT OR IGNORE INTO brought_due VALUES (old.contact_id); END;
CREATE TRIGGER send_to_another AFTER UPDATE OF contact_id ON send WHEN old.contact_id <> new.contact_id
BEGIN INSERT OR IGNORE INTO brought_due VALUES (old.contact_id), (new.contact_id); END;
-- A click that comes in after what it led to, or that turns out to be a machine's.
CREATE TRIGGER click_came AFTER INSERT ON response WHEN new.kind = 2 AND new.machine = 0
BEGIN INSERT OR IGNORE INTO brought_due SELECT s.contact_id FROM send s WHERE s.id = new.send_id
    AND (EXISTS (SELECT 1 FROM purchase p WHERE p.contact_id = s.contact_id) OR EXISTS (SELECT 1 FROM event e WHERE e.contact_id = s.contact_id)); END;
CREATE TRIGGER click_judged AFTER UPDATE OF machine ON response WHEN new.kind = 2 AND (new.machine = 0) <> (old.machine = 0)
BEGIN INSERT OR IGNORE INTO brought_due SELECT contact_id FROM send WHERE id = new.send_id; END;
-- Another goal puts everybody down anew.
CREATE TRIGGER goal_made AFTER INSERT ON goal BEGIN INSERT INTO setting VALUES ('brought_again', '0') ON CONFLICT DO UPDATE SET value = excluded.value; END;
CREATE TRIGGER goal_changed AFTER UPDATE ON goal BEGIN INSERT INTO setting VALUES ('brought_again', '0') ON CONFLICT DO UPDATE SET value = excluded.value; END;
CREATE TRIGGER goal_gone AFTER DELETE ON goal BEGIN INSERT INTO setting VALUES ('brought_again', '0') ON CONFLICT DO UPDATE SET value = excluded.value; END;
INSERT INTO setting SELECT 'brought_again', '0' WHERE EXISTS (SELECT 1 FROM goal);
