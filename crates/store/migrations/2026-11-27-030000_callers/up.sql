-- Programs without a browser: tokens that people make, and bounds of what a gate's token is good for.
CREATE TABLE personal_tokens (
    digest bytea PRIMARY KEY,
    id uuid NOT NULL UNIQUE,
    provider text NOT NULL,
    subject text NOT NULL,
    owner_name text NOT NULL,
    name text NOT NULL,
    gates text[] NOT NULL,
    -- Paths at or below which it is good; none for all.
    paths text[],
    created_at timestamptz NOT NULL,
    expires_at timestamptz NOT NULL,
    used_at timestamptz
);
CREATE INDEX personal_tokens_owner ON personal_tokens (provider, subject);
ALTER TABLE gate_tokens ADD COLUMN expires_at timestamptz;
ALTER TABLE gate_tokens ADD COLUMN paths text[];
-- Of a session that a personal token opened, the token.
ALTER TABLE sessions ADD COLUMN personal_token uuid;
