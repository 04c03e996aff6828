-- Whose address was retired, and whose mail was sunset, by when: other systems are told as it happens.
CREATE INDEX contact_retired ON contact (status_at) WHERE status = 3;
CREATE INDEX contact_sunset_at ON contact (sunset_at) WHERE sunset_at IS NOT NULL;
