-- Samples that an uplink has not sent yet, oldest first, as JSON lists.
CREATE TABLE journal (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  gateway VARCHAR(64) NOT NULL,
  uplink VARCHAR(64) NOT NULL,
  samples MEDIUMTEXT NOT NULL,
  KEY (gateway, uplink, id)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;
