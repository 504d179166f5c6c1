-- What each uplink has delivered, published and lost since it is counted.
CREATE TABLE uplink_count (
  gateway VARCHAR(64) NOT NULL,
  uplink VARCHAR(64) NOT NULL,
  since BIGINT NOT NULL,
  delivered BIGINT UNSIGNED NOT NULL,
  messages BIGINT UNSIGNED NOT NULL,
  lost BIGINT UNSIGNED NOT NULL,
  PRIMARY KEY (gateway, uplink)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;
