-- What the gateway has to know of a block without reading it: a count of 0 stands for blocks of before.
ALTER TABLE journal_block
  ADD COLUMN sample_count INT UNSIGNED NOT NULL DEFAULT 0,
  ADD COLUMN oldest_at BIGINT NOT NULL DEFAULT 0,
  ADD COLUMN newest_at BIGINT NOT NULL DEFAULT 0;
