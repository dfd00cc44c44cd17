-- Keys of the ring that this database was sealed with, each with a proof that tells another key of the same number.
CREATE TABLE ring_keys (
    number     integer PRIMARY KEY,
    proof      bytea NOT NULL,
    seen_at    timestamptz NOT NULL,
    retired_at timestamptz
);
-- Under which key a recovery code was made; 0 where nobody wrote it down.
ALTER TABLE recovery_codes ADD COLUMN key integer NOT NULL DEFAULT 0;
-- The key that a node seals with.
ALTER TABLE nodes ADD COLUMN seals_with integer NOT NULL DEFAULT 0;
