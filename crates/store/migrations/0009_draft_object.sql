-- The objects of edited drafts, as JSON. A draft without rows is the active revision.
CREATE TABLE draft_object (
  gateway VARCHAR(64) NOT NULL,
  class VARCHAR(16) NOT NULL,
  list VARCHAR(200) NOT NULL,
  name VARCHAR(200) NOT NULL,
  position INT UNSIGNED NOT NULL,
  content MEDIUMTEXT NOT NULL,
  changed_by VARCHAR(128) NOT NULL,
  changed_at BIGINT NOT NULL,
  PRIMARY KEY (gateway, class, list, name)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;
