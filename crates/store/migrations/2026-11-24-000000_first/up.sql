-- Everything kept. SQL never asks for the time: moments are handed in by the service's one clock.

CREATE TABLE editions (
    number       integer PRIMARY KEY,
    document     text NOT NULL,
    note         text NOT NULL,
    author       text NOT NULL,
    published_at timestamptz NOT NULL
);

CREATE TABLE secrets (
    name       text PRIMARY KEY,
    version    integer NOT NULL,
    sealed     bytea NOT NULL,
    changed_at timestamptz NOT NULL,
    changed_by text NOT NULL
);

CREATE TABLE tokens (
    digest     bytea PRIMARY KEY,
    name       text NOT NULL,
    role       text NOT NULL,
    created_at timestamptz NOT NULL,
    revoked_at timestamptz
);

CREATE TABLE sessions (
    id            uuid PRIMARY KEY,
    token_digest  bytea NOT NULL UNIQUE,
    provider      text NOT NULL,
    subject       text NOT NULL,
    name          text NOT NULL,
    evidence      jsonb NOT NULL,
    began         timestamptz NOT NULL,
    last_seen     timestamptz NOT NULL,
    ended_at      timestamptz,
    ended_by      text,
    address       text NOT NULL,
    agent         text NOT NULL,
    hint          bytea,
    -- which revocation ended it; nodes read those above the last they saw
    revocation    bigint
);
CREATE INDEX sessions_person ON sessions (provider, subject);
CREATE INDEX sessions_seen ON sessions (last_seen DESC) WHERE ended_at IS NULL;
CREATE INDEX sessions_revocation ON sessions (revocation) WHERE revocation IS NOT NULL;

CREATE TABLE gate_tokens (
    digest       bytea PRIMARY KEY,
    session_id   uuid NOT NULL REFERENCES sessions ON DELETE CASCADE,
    gate         text NOT NULL,
    crossing     text NOT NULL,
    decision     bytea NOT NULL,
    created_at   timestamptz NOT NULL
);
CREATE INDEX gate_tokens_session ON gate_tokens (session_id);

CREATE TABLE codes (
    digest       bytea PRIMARY KEY,
    session_id   uuid NOT NULL REFERENCES sessions ON DELETE CASCADE,
    gate         text NOT NULL,
    binding      bytea NOT NULL,
    target       text NOT NULL,
    crossing     text NOT NULL,
    expires_at   timestamptz NOT NULL
);
CREATE INDEX codes_expiry ON codes (expires_at);

-- Flows that a provider has answered: each state is good once.
CREATE TABLE answered (
    flow         bytea PRIMARY KEY,
    expires_at   timestamptz NOT NULL
);

-- One row: every transaction that revokes raises it under its lock.
CREATE TABLE revocations (
    single       boolean PRIMARY KEY DEFAULT true CHECK (single),
    counter      bigint NOT NULL
);
INSERT INTO revocations (counter) VALUES (0);

CREATE TABLE crossings (
    day          date NOT NULL,
    id           text NOT NULL,
    at           timestamptz NOT NULL,
    ended_at     timestamptz NOT NULL,
    gate         text NOT NULL,
    edition      integer NOT NULL,
    node         text NOT NULL,
    outcome      text NOT NULL,
    provider     text,
    subject      text,
    person       text,
    session_id   uuid,
    address      text NOT NULL,
    method       text NOT NULL,
    target       text NOT NULL,
    steps        jsonb NOT NULL,
    deciding     jsonb,
    evidence     bytea,
    repeats      bigint NOT NULL DEFAULT 0,
    requests     bigint NOT NULL DEFAULT 0,
    bytes_in     bigint NOT NULL DEFAULT 0,
    bytes_out    bigint NOT NULL DEFAULT 0,
    PRIMARY KEY (day, id)
) PARTITION BY RANGE (day);
CREATE INDEX crossings_at ON crossings (at DESC);
CREATE INDEX crossings_person ON crossings (subject, at DESC);
CREATE INDEX crossings_gate ON crossings (gate, at DESC);

CREATE TABLE evidence (
    day          date NOT NULL,
    hash         bytea NOT NULL,
    body         jsonb NOT NULL,
    PRIMARY KEY (day, hash)
) PARTITION BY RANGE (day);

-- Flows sent to and answered by each provider, by the minute in which they began.
CREATE TABLE provider_flows (
    provider     text NOT NULL,
    minute       timestamptz NOT NULL,
    sent         bigint NOT NULL DEFAULT 0,
    answered     bigint NOT NULL DEFAULT 0,
    PRIMARY KEY (provider, minute)
);

-- Anonymous attempts that were counted without a crossing of their own.
CREATE TABLE unrecorded (
    minute       timestamptz PRIMARY KEY,
    attempts     bigint NOT NULL
);

-- What engineers did.
CREATE TABLE acts (
    number       bigserial PRIMARY KEY,
    at           timestamptz NOT NULL,
    who          text NOT NULL,
    what         text NOT NULL,
    detail       text NOT NULL
);
