-- The numbers by which journal blocks name points. Rows are only ever added: a number means the same for as long as a block may have it.
CREATE TABLE journal_point (
  number BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  gateway VARCHAR(64) NOT NULL,
  device VARCHAR(64) NOT NULL,
  point VARCHAR(128) NOT NULL,
  type VARCHAR(32) NOT NULL,
  UNIQUE KEY (gateway, device, point, type)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;
