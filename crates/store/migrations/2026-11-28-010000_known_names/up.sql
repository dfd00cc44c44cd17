-- Migrations only go forward; see docs/architecture.md.
-- Names by which people came in before, for sign-in routes that ask whether somebody did.
CREATE TABLE known_names (
    -- A MAC of the attribute and its value: which names there are is nobody's to read here.
    name bytea NOT NULL,
    way text NOT NULL,
    seen_at timestamptz NOT NULL,
    PRIMARY KEY (name, way)
);
CREATE INDEX known_names_seen ON known_names (seen_at);
