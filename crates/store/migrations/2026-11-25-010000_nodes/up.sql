-- Nodes that run, and up to where each has seen revocations: ending a session waits for those that live.
CREATE TABLE nodes (
    id uuid PRIMARY KEY,
    name text NOT NULL,
    seen_at timestamptz NOT NULL,
    revocation bigint NOT NULL
);
