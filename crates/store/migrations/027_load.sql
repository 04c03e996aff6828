-- The cell of the recipient's mail load when the message was first handed over; null: not known then.
ALTER TABLE send ADD COLUMN load INTEGER;
