-- Second factors of our own, of people as their provider names them.
CREATE TABLE factors (
    id uuid PRIMARY KEY,
    provider text NOT NULL,
    subject text NOT NULL,
    -- totp or passkey.
    kind text NOT NULL,
    name text NOT NULL,
    -- The secret, or the passkey with its counter, sealed.
    sealed bytea NOT NULL,
    -- Of a passkey, its credential id.
    credential bytea UNIQUE,
    created_at timestamptz NOT NULL,
    used_at timestamptz,
    -- Of an authenticator, the last step of time whose code was used: none is good twice.
    last_step bigint
);
CREATE INDEX factors_person ON factors (provider, subject);
CREATE TABLE recovery_codes (
    -- A MAC under the ring of person and code.
    code bytea PRIMARY KEY,
    provider text NOT NULL,
    subject text NOT NULL
);
CREATE INDEX recovery_codes_person ON recovery_codes (provider, subject);
