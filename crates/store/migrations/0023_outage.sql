-- When a part did not work: the service itself, a link, a device, an uplink. Without an end it lasts.
CREATE TABLE outage (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  gateway VARCHAR(64) NOT NULL,
  kind VARCHAR(16) NOT NULL,
  name VARCHAR(64) NOT NULL,
  from_at BIGINT NOT NULL,
  to_at BIGINT NULL,
  why VARCHAR(512) NOT NULL,
  kept BIGINT UNSIGNED NULL,
  sent_later BIGINT UNSIGNED NULL,
  lost BIGINT UNSIGNED NULL,
  is_settled BOOLEAN NOT NULL,
  UNIQUE KEY (gateway, kind, name, from_at),
  KEY (from_at, id),
  KEY (is_settled)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;
