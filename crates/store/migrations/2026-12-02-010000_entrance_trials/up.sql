-- Migrations only go forward; see docs/architecture.md.
-- Trials of entrances: clients that connect from a network, or people, for whom an entrance decides and tells everything and opens nothing.
CREATE TABLE entrance_trials (
    id uuid PRIMARY KEY,
    gate text NOT NULL,
    entrance text NOT NULL,
    -- Which clients: those that connect from here, and those of this person; all of them where neither is said.
    network text,
    person text,
    begun_by text NOT NULL,
    begun timestamptz NOT NULL,
    expires_at timestamptz NOT NULL,
    ended_at timestamptz,
    ended_by text,
    -- Crossings that tell of it, in the order in which they began.
    crossings text[] NOT NULL DEFAULT '{}'
);
CREATE INDEX entrance_trials_expires ON entrance_trials (expires_at);
