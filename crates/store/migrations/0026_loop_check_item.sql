-- What was found of the points of loop checks.
CREATE TABLE loop_check_item (
  loop_check BIGINT UNSIGNED NOT NULL,
  device VARCHAR(64) NOT NULL,
  point VARCHAR(128) NOT NULL,
  result VARCHAR(16) NOT NULL,
  expected VARCHAR(200) NOT NULL,
  said VARCHAR(200) NOT NULL,
  raw VARCHAR(200) NOT NULL,
  quality VARCHAR(200) NOT NULL,
  note VARCHAR(500) NOT NULL,
  person VARCHAR(64) NOT NULL,
  at BIGINT NOT NULL,
  PRIMARY KEY (loop_check, device, point)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;
