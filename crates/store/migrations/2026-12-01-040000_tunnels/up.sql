-- How a machine at the far end of a tunnel came: from where, by which client, with which second address. Others have none.
ALTER TABLE presences ADD COLUMN tunnel jsonb;
-- Tunnels that wait for their person to sign in, and what came of it.
CREATE TABLE tunnel_asks (
    digest     bytea PRIMARY KEY,
    node       text NOT NULL,
    gate       text NOT NULL,
    -- As presences keep it.
    tunnel     jsonb NOT NULL,
    network    text NOT NULL,
    created_at timestamptz NOT NULL,
    expires_at timestamptz NOT NULL,
    -- Whose it is, once somebody said so in their browser, and from where.
    session_id uuid,
    browser    text,
    -- `refused` by the person, before anything was decided.
    refused    boolean NOT NULL DEFAULT false,
    -- What came of it; none while it waits.
    outcome    jsonb
);
CREATE INDEX tunnel_asks_network ON tunnel_asks (network);
CREATE INDEX tunnel_asks_answered ON tunnel_asks (node) WHERE outcome IS NULL;
-- Codes that somebody who is signed in reads to a client that can only ask a question.
CREATE TABLE tunnel_codes (
    code       bytea PRIMARY KEY,
    gate       text NOT NULL,
    session_id uuid NOT NULL,
    expires_at timestamptz NOT NULL
);
CREATE INDEX tunnel_codes_session ON tunnel_codes (session_id);
