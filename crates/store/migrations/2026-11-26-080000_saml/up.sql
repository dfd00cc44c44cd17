-- Migrations only go forward; see docs/architecture.md.
-- Answers that a provider sent by a form, sealed, until the browser fetches them from its own site: once, within two minutes.
CREATE TABLE parked (
    digest bytea PRIMARY KEY,
    -- The network it came from: nobody may fill the table alone.
    network text NOT NULL,
    sealed bytea NOT NULL,
    expires_at timestamptz NOT NULL
);
CREATE INDEX parked_expires ON parked (expires_at);
CREATE INDEX parked_network ON parked (network);
-- How the provider names the person and its own session, so that it can end them here.
ALTER TABLE sessions ADD COLUMN provider_name text, ADD COLUMN provider_session text;
CREATE INDEX sessions_provider_name ON sessions (provider, provider_name) WHERE ended_at IS NULL;
