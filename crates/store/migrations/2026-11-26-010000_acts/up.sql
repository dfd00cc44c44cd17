-- What engineers did, as a chain: see passeur_core::acts. The former table held no chain and was of no use to a check.
DROP TABLE acts;
CREATE TABLE acts (
    number          bigint PRIMARY KEY,
    at              timestamptz NOT NULL,
    what            text NOT NULL,
    about           jsonb NOT NULL,
    -- who did it and whom it concerned; null once erased
    personal        jsonb,
    personal_digest bytea NOT NULL,
    key             integer NOT NULL,
    mac             bytea NOT NULL
);
-- One row: acts are appended under its lock.
CREATE TABLE acts_head (
    single boolean PRIMARY KEY DEFAULT true CHECK (single),
    number bigint NOT NULL,
    mac    bytea NOT NULL
);
INSERT INTO acts_head (number, mac) VALUES (0, decode(repeat('00', 32), 'hex'));
