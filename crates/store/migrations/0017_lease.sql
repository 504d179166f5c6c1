-- Which service works with this database: one at a time.
CREATE TABLE lease (
  id TINYINT UNSIGNED NOT NULL PRIMARY KEY,
  installation VARCHAR(64) NOT NULL,
  run VARCHAR(64) NOT NULL,
  holder VARCHAR(255) NOT NULL,
  until_at DATETIME(3) NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;
