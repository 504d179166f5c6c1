-- Loop checks: points that somebody compares with what their devices show, one by one.
CREATE TABLE loop_check (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  gateway VARCHAR(64) NOT NULL,
  title VARCHAR(200) NOT NULL,
  revision INT UNSIGNED NOT NULL,
  -- The points as they were described then, as JSON, in their order.
  points MEDIUMTEXT NOT NULL,
  started_by VARCHAR(64) NOT NULL,
  started_at BIGINT NOT NULL,
  closed_by VARCHAR(64) NULL,
  closed_at BIGINT NULL,
  KEY (gateway, id)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;
