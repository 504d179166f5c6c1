-- Gateways of before had revisions only.
INSERT INTO gateway (name, active, version, is_edited, is_removed, changed_by, changed_at)
SELECT gateway, MAX(number), 1, FALSE, FALSE, '', MAX(activated_at) FROM revision GROUP BY gateway;
