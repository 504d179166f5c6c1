-- Until when commanded values hold: after that, the point's safe value is written.
CREATE TABLE command_lifetime (
  gateway VARCHAR(64) NOT NULL,
  device VARCHAR(64) NOT NULL,
  point VARCHAR(64) NOT NULL,
  due_at BIGINT NOT NULL,
  PRIMARY KEY (gateway, device, point)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;
