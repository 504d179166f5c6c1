-- Edits of drafts: the object that one stands in the place of (none: it is new), the name that it has now (none: it is gone), its content.
CREATE TABLE draft_edit (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  gateway VARCHAR(64) NOT NULL,
  class VARCHAR(16) NOT NULL,
  list VARCHAR(200) NOT NULL,
  name VARCHAR(200) NULL,
  base VARCHAR(200) NULL,
  content MEDIUMTEXT NULL,
  changed_by VARCHAR(128) NOT NULL,
  changed_at BIGINT NOT NULL,
  UNIQUE KEY (gateway, class, list, name),
  KEY (gateway, class, list, base)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;
