-- The time of the last STATE of the primary host, while no orderly end has come after it.
ALTER TABLE uplink ADD COLUMN host_known BIGINT UNSIGNED NULL;
