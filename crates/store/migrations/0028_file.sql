-- The files of revisions, and below zero those that drafts began with, as pieces in their order. A revision of before has its files as
-- one text of its own.
CREATE TABLE file (
  gateway VARCHAR(64) NOT NULL,
  number BIGINT NOT NULL,
  path VARCHAR(200) NOT NULL,
  place INT UNSIGNED NOT NULL,
  digest BINARY(16) NOT NULL,
  PRIMARY KEY (gateway, number, path, place),
  KEY (digest)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;
