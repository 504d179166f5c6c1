-- When the service was last known to run.
CREATE TABLE alive (
  id TINYINT UNSIGNED NOT NULL PRIMARY KEY,
  at BIGINT NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;
