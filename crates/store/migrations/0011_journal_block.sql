-- Samples that are not proven to be with a broker, a block a row, encoded by the gateway.
CREATE TABLE journal_block (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  gateway VARCHAR(64) NOT NULL,
  uplink VARCHAR(64) NOT NULL,
  samples MEDIUMBLOB NOT NULL,
  KEY (gateway, uplink, id)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;
