-- What an entry is about, and what it was before and after.
ALTER TABLE audit
  ADD COLUMN gateway VARCHAR(64) NOT NULL DEFAULT '',
  ADD COLUMN object VARCHAR(255) NOT NULL DEFAULT '',
  ADD COLUMN content_before MEDIUMTEXT NULL,
  ADD COLUMN content_after MEDIUMTEXT NULL;
