-- Whatever strangers can make us keep is told apart by the network it came from, so that none of them fills the place of others.
ALTER TABLE parked ADD COLUMN flow bytea UNIQUE;
ALTER TABLE kept_forms ADD COLUMN network text NOT NULL DEFAULT '';
ALTER TABLE device_codes ADD COLUMN network text NOT NULL DEFAULT '';
ALTER TABLE mailed_codes ADD COLUMN network text NOT NULL DEFAULT '';
CREATE INDEX kept_forms_network ON kept_forms (network);
CREATE INDEX device_codes_network ON device_codes (network);
CREATE INDEX mailed_codes_network ON mailed_codes (network);
