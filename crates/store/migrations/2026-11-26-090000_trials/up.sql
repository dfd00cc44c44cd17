-- Migrations only go forward; see docs/architecture.md.
-- Trial sign-ins: an engineer signs in through a provider with nothing switched, and sees all that came back.
CREATE TABLE trials (
    digest bytea PRIMARY KEY,
    provider text NOT NULL,
    -- What the site is in words, and the document where it is not the live edition's.
    source text NOT NULL,
    document text,
    begun_by text NOT NULL,
    begun timestamptz NOT NULL,
    expires_at timestamptz NOT NULL,
    -- All that came back, sealed; none while it is waited for.
    result bytea
);
CREATE INDEX trials_expires ON trials (expires_at);
