-- What an uplink must remember over a restart: the Sparkplug bdSeq of its last CONNECT.
CREATE TABLE uplink (
  gateway VARCHAR(64) NOT NULL,
  name VARCHAR(64) NOT NULL,
  bd_seq TINYINT UNSIGNED NOT NULL,
  PRIMARY KEY (gateway, name)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;
