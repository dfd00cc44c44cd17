-- Secrets have versions of their own: one in use, and one that may stand beside it while both sides change.
CREATE TABLE secret_versions (
    name       text NOT NULL,
    version    integer NOT NULL,
    sealed     bytea NOT NULL,
    changed_at timestamptz NOT NULL,
    changed_by text NOT NULL,
    PRIMARY KEY (name, version)
);
INSERT INTO secret_versions SELECT name, version, sealed, changed_at, changed_by FROM secrets;
ALTER TABLE secrets
    -- the version that stands beside the one in use
    ADD COLUMN next integer,
    -- the highest version there ever was
    ADD COLUMN latest integer NOT NULL DEFAULT 0;
UPDATE secrets SET latest = version;
ALTER TABLE secrets DROP COLUMN sealed, DROP COLUMN changed_at, DROP COLUMN changed_by;
