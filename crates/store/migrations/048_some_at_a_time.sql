-- By which half-life a person's value was worked out: when a score's changes, people follow a few at a time.
ALTER TABLE score_now ADD COLUMN half_life_days REAL;
UPDATE score_now SET half_life_days = (SELECT half_life_days FROM score WHERE id = score_id);
-- The last whose value follows the score's half-life; null: everybody's does.
ALTER TABLE score ADD COLUMN followed_upto INTEGER;
-- 1: deleted; it is nowhere any more, and its rows follow a few at a time. 2: its people are being put in; nobody sees it yet. A label has no people: always 0.
ALTER TABLE list ADD COLUMN gone INTEGER NOT NULL DEFAULT 0;
ALTER TABLE tag ADD COLUMN gone INTEGER NOT NULL DEFAULT 0;
ALTER TABLE label ADD COLUMN gone INTEGER NOT NULL DEFAULT 0;
ALTER TABLE segment ADD COLUMN gone INTEGER NOT NULL DEFAULT 0;
ALTER TABLE score ADD COLUMN gone INTEGER NOT NULL DEFAULT 0;
ALTER TABLE field ADD COLUMN gone INTEGER NOT NULL DEFAULT 0;
