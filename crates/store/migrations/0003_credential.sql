-- Browser sessions and API tokens: only hashes of the secrets are kept.
CREATE TABLE credential (
  secret_hash BINARY(32) NOT NULL PRIMARY KEY,
  person INT UNSIGNED NOT NULL,
  kind VARCHAR(16) NOT NULL,
  label VARCHAR(128) NOT NULL,
  created_at BIGINT NOT NULL,
  expires_at BIGINT NOT NULL,
  FOREIGN KEY (person) REFERENCES person (id) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;
