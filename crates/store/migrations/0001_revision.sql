-- Immutable, numbered descriptions. `files` is a JSON object: path to text.
CREATE TABLE revision (
  gateway VARCHAR(64) NOT NULL,
  number INT UNSIGNED NOT NULL,
  author VARCHAR(128) NOT NULL,
  activated_at BIGINT NOT NULL,
  note TEXT NOT NULL,
  files LONGTEXT NOT NULL,
  PRIMARY KEY (gateway, number)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;
