-- What reactions did by day: how often each set of deeds changed something (a bit for each deed, as in `reacted`), and how often that was taken back.
CREATE TABLE reacted_day (
    reaction_id INTEGER NOT NULL REFERENCES reaction, day INTEGER NOT NULL, changed INTEGER NOT NULL,
    done INTEGER NOT NULL DEFAULT 0, taken_back INTEGER NOT NULL DEFAULT 0, PRIMARY KEY (reaction_id, day, changed)
) WITHOUT ROWID;
INSERT INTO reacted_day SELECT reaction_id, done_at / 86400000, changed, count(*), count(taken_back_at) FROM reacted GROUP BY 1, 2, 3;
CREATE TRIGGER reacted_first AFTER INSERT ON reacted BEGIN
    INSERT INTO reacted_day VALUES (new.reaction_id, new.done_at / 86400000, new.changed, 1, new.taken_back_at IS NOT NULL)
        ON CONFLICT DO UPDATE SET done = done + 1, taken_back = taken_back + (new.taken_back_at IS NOT NULL);
END;
CREATE TRIGGER reacted_then AFTER UPDATE OF done_at, changed, taken_back_at ON reacted BEGIN
    UPDATE reacted_day SET done = done - 1, taken_back = taken_back - (old.taken_back_at IS NOT NULL)
        WHERE reaction_id = old.reaction_id AND day = old.done_at / 86400000 AND changed = old.changed;
    INSERT INTO reacted_day VALUES (new.reaction_id, new.done_at / 86400000, new.changed, 1, new.taken_back_at IS NOT NULL)
        ON CONFLICT DO UPDATE SET done = done + 1, taken_back = taken_back + (new.taken_back_at IS NOT NULL);
END;
