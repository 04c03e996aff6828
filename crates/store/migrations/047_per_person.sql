-- What one pass over everybody's messages adds up to (the recency guide, the cap guide, the quality of sources, how mail fares by consent), worked out
-- each day of a large base and shown with its instant. JSON: it is read and written whole.
CREATE TABLE per_person (one INTEGER PRIMARY KEY CHECK (one = 1), as_of INTEGER NOT NULL, sums TEXT NOT NULL);
