-- The sequence of events of each gateway: what devices told of changes, in the order in which they told it.
CREATE TABLE field_event (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  gateway VARCHAR(64) NOT NULL,
  source VARCHAR(512) NOT NULL,
  device VARCHAR(64) NOT NULL,
  point VARCHAR(128) NULL,
  address VARCHAR(64) NOT NULL,
  state VARCHAR(512) NOT NULL,
  is_number BOOLEAN NOT NULL,
  flags VARCHAR(128) NOT NULL,
  at BIGINT NOT NULL,
  time_quality TINYINT UNSIGNED NOT NULL,
  arrived BIGINT NOT NULL,
  mark BIGINT UNSIGNED NOT NULL,
  KEY (gateway, at, id),
  KEY (gateway, is_number, at, id),
  KEY (gateway, device, at, id),
  KEY (gateway, is_number, id),
  KEY (gateway, id),
  KEY (gateway, source(255), id)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;
