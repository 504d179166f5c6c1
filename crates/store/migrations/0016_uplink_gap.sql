-- Stretches of time from which samples are missing at the broker of an uplink.
CREATE TABLE uplink_gap (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  gateway VARCHAR(64) NOT NULL,
  uplink VARCHAR(64) NOT NULL,
  from_at BIGINT NOT NULL,
  to_at BIGINT NOT NULL,
  samples BIGINT UNSIGNED NOT NULL,
  why VARCHAR(64) NOT NULL,
  KEY (gateway, uplink, id)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;
