-- What another system was told of whom it must not write to, so that it is told when that ends.
CREATE TABLE do_not_write_told (
    contact_id INTEGER NOT NULL,
    reason TEXT NOT NULL,
    -- Empty: all of our marketing mail.
    topic TEXT NOT NULL,
    entity TEXT NOT NULL,
    PRIMARY KEY (contact_id, reason, topic, entity)
) WITHOUT ROWID;
