-- A gateway: its active revision, and whether its draft differs from it. `version` grows with every edit.
CREATE TABLE gateway (
  name VARCHAR(64) NOT NULL PRIMARY KEY,
  active INT UNSIGNED NULL,
  version BIGINT UNSIGNED NOT NULL,
  is_edited BOOLEAN NOT NULL,
  is_removed BOOLEAN NOT NULL,
  changed_by VARCHAR(128) NOT NULL,
  changed_at BIGINT NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;
