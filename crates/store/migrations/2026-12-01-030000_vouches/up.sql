-- Guests who wait for somebody to vouch for them, and the word that was given until it is used.
CREATE TABLE vouches (
    flow              bytea PRIMARY KEY,
    code              bytea NOT NULL,
    way               text NOT NULL,
    name              text NOT NULL,
    note              text NOT NULL,
    address           text NOT NULL,
    agent             text NOT NULL,
    network           text NOT NULL,
    created_at        timestamptz NOT NULL,
    expires_at        timestamptz NOT NULL,
    -- `pending`, `given` or `denied`.
    state             text NOT NULL,
    sponsor_provider  text,
    sponsor_authority text,
    sponsor_subject   text,
    sponsor_name      text
);
CREATE UNIQUE INDEX vouches_code ON vouches (code);
CREATE INDEX vouches_network ON vouches (network);
CREATE INDEX vouches_sponsor ON vouches (sponsor_authority, sponsor_subject);
-- Guests by whoever vouched for them: they leave together.
CREATE INDEX sessions_sponsor ON sessions ((evidence->'claims'->>'sponsor-authority'), (evidence->'claims'->>'sponsor-subject'))
    WHERE ended_at IS NULL AND evidence->>'way_in' = 'sponsor';
