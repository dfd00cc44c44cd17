-- How many octets passed at a gate in each quarter of an hour, for a plot of the day.
CREATE TABLE passed (
    gate text NOT NULL,
    at   timestamptz NOT NULL,
    up   bigint NOT NULL,
    down bigint NOT NULL,
    PRIMARY KEY (gate, at)
);
CREATE INDEX presences_ended ON presences (ended_at);
-- Groups that the person was in by the decision that is in force, as engineers know them.
ALTER TABLE presences ADD COLUMN groups text[] NOT NULL DEFAULT '{}';
