-- What the field side of a gateway remembers of a place over a restart, in a form that only its protocol knows.
CREATE TABLE field_memory (
  gateway VARCHAR(64) NOT NULL,
  place VARCHAR(512) NOT NULL,
  content LONGBLOB NOT NULL,
  PRIMARY KEY (gateway, place)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;
