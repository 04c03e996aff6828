-- In a series: which look called an arm, and of whom (JSON).
ALTER TABLE trial ADD COLUMN called_at_look TEXT;
