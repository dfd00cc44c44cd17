-- What whoever agreed is known by, so that one human being with two ways in is not two engineers.
ALTER TABLE agreements ADD COLUMN likeness jsonb NOT NULL DEFAULT '[]';
-- A version that waits for a second engineer serves nothing; what whoever stored it is known by.
ALTER TABLE secret_versions ADD COLUMN waits boolean NOT NULL DEFAULT false;
ALTER TABLE secret_versions ADD COLUMN likeness jsonb NOT NULL DEFAULT '[]';
-- Who answered a flow of ours: strangers can write these rows. None for what a provider or a KDC has signed.
ALTER TABLE answered ADD COLUMN network text;
CREATE INDEX answered_network ON answered (network) WHERE network IS NOT NULL;
