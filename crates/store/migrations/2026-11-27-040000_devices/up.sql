-- Command lines that wait for an engineer to let them in (RFC 8628).
CREATE TABLE device_codes (
    -- Of the device's code.
    digest bytea PRIMARY KEY,
    -- A MAC under the ring of the short code that a person types.
    user_code bytea NOT NULL UNIQUE,
    address text NOT NULL,
    agent text NOT NULL,
    created_at timestamptz NOT NULL,
    expires_at timestamptz NOT NULL,
    polled_at timestamptz,
    -- pending, approved or denied.
    state text NOT NULL,
    role text,
    owner_provider text,
    owner_subject text,
    owner_name text
);
CREATE INDEX device_codes_expires ON device_codes (expires_at);
