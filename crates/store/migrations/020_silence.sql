-- Silent people as of the last day on which it was worked out: how far it is with each (by the numbers of crates/core), and when they last
-- answered; 0: never.
CREATE TABLE silent (contact_id INTEGER PRIMARY KEY REFERENCES contact, stage INTEGER NOT NULL, answered_at INTEGER NOT NULL, blind INTEGER NOT NULL, asked_at INTEGER);
CREATE INDEX silent_stage ON silent (stage, answered_at, contact_id);
CREATE INDEX silent_answered ON silent (answered_at, contact_id);
-- Whom a run sunset or kept back (by the numbers of crates/core): what became of them is counted later.
CREATE INDEX cleaning_silent ON cleaning_member (contact_id) WHERE status_after IN (4, 5);
-- Lines for the system of record: whom it must not bring back. The address is kept until it was handed over, the hash for good.
CREATE TABLE do_not_return (
    id INTEGER PRIMARY KEY, at INTEGER NOT NULL, hash BLOB NOT NULL, address TEXT, reason TEXT NOT NULL, run_id INTEGER REFERENCES cleaning_run, handed_at INTEGER,
    -- the message to another system that carries it
    delivery_id INTEGER REFERENCES delivery
);
CREATE INDEX do_not_return_waits ON do_not_return (id) WHERE address IS NOT NULL;
-- Who took a line has the address; who never did won't get it any more.
CREATE TRIGGER return_line_told AFTER UPDATE OF state ON delivery WHEN new.state = 1 AND old.state <> 1
BEGIN UPDATE do_not_return SET address = NULL, handed_at = new.tried_at WHERE delivery_id = new.id AND address IS NOT NULL; END;
CREATE TRIGGER return_line_forgotten AFTER UPDATE OF address ON do_not_return WHEN new.address IS NULL AND new.delivery_id IS NOT NULL
BEGIN UPDATE delivery SET body = json_remove(body, '$.address'), next_at = NULL, state = iif(state = 0, 2, state) WHERE id = new.delivery_id; END;
CREATE INDEX do_not_return_delivery ON do_not_return (delivery_id) WHERE delivery_id IS NOT NULL;
-- People deleted, in the picture of the base.
ALTER TABLE base_day ADD COLUMN tombstones INTEGER NOT NULL DEFAULT 0;
