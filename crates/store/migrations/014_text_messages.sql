-- Text messages: the number that they go to (E.164), and since when a network says that there is none such.
ALTER TABLE contact ADD COLUMN phone TEXT;
ALTER TABLE contact ADD COLUMN phone_failed_at INTEGER;
-- Of people in the base a number is one person's; who was merged away keeps theirs, for the day they are parted.
CREATE UNIQUE INDEX contact_phone ON contact (phone) WHERE phone IS NOT NULL AND gone IS NULL;
CREATE INDEX contact_phone_failed ON contact (id) WHERE phone_failed_at IS NOT NULL;
-- Consent to anything but email of the first legal entity, which stands on the contact.
CREATE TABLE other_consent (
    channel INTEGER NOT NULL, entity TEXT NOT NULL, contact_id INTEGER NOT NULL REFERENCES contact, consent INTEGER NOT NULL, consent_at INTEGER,
    paused_until INTEGER, under_pause INTEGER NOT NULL DEFAULT 0, PRIMARY KEY (channel, entity, contact_id)
) WITHOUT ROWID;
INSERT INTO other_consent SELECT 1, entity, contact_id, consent, consent_at, paused_until, under_pause FROM entity_consent;
DROP TABLE entity_consent;
CREATE INDEX other_consent_contact ON other_consent (contact_id);
ALTER TABLE journal_due ADD COLUMN channel INTEGER NOT NULL DEFAULT 1;
-- The number that a letterhead's text messages come from; empty: it sends none.
ALTER TABLE letterhead ADD COLUMN text_number TEXT NOT NULL DEFAULT '';
-- People of the file agreed to text messages, too.
ALTER TABLE import_run ADD COLUMN consent_texts INTEGER NOT NULL DEFAULT 0;
-- The mailing that a text message goes along with.
ALTER TABLE mailing ADD COLUMN companion_of INTEGER REFERENCES mailing;
CREATE INDEX mailing_companion ON mailing (companion_of) WHERE companion_of IS NOT NULL;
