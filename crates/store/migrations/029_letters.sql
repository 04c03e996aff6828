-- Where letters of saved views go.
ALTER TABLE person ADD COLUMN address TEXT;
-- A saved view that is mailed to somebody of the team each week; `test_id`: what became of the last one, which is no send.
CREATE TABLE view_letter (
    id INTEGER PRIMARY KEY, view_id INTEGER NOT NULL REFERENCES saved_view, person_id INTEGER NOT NULL REFERENCES person,
    letterhead_id INTEGER NOT NULL REFERENCES letterhead,
    -- by the letterhead's clock; Monday is 0
    weekday INTEGER NOT NULL, minute INTEGER NOT NULL, next_at INTEGER NOT NULL, test_id INTEGER REFERENCES test_send, UNIQUE (view_id, person_id)
);
