-- Personal profiles of tunnels: whose machine a client certificate was made for, and whether it still counts.
CREATE TABLE profiles (
    id         uuid PRIMARY KEY,
    gate       text NOT NULL,
    -- SHA-256 of the certificate.
    digest     bytea NOT NULL UNIQUE,
    provider   text NOT NULL,
    authority  text NOT NULL,
    subject    text NOT NULL,
    name       text NOT NULL,
    device     text NOT NULL,
    created_at timestamptz NOT NULL,
    expires_at timestamptz NOT NULL,
    used_at    timestamptz,
    revoked_at timestamptz,
    revoked_by text
);
CREATE INDEX profiles_person ON profiles (authority, subject);
