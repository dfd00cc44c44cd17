-- A person is who vouches for them and what they are called there; the name of a provider may stand for another issuer one day.
ALTER TABLE sessions ADD COLUMN authority text NOT NULL DEFAULT '';
CREATE INDEX sessions_authority ON sessions (authority, subject);
-- Until when the provider's own session lasts, where it says so (SAML: SessionNotOnOrAfter).
ALTER TABLE sessions ADD COLUMN until timestamptz;
ALTER TABLE factors ADD COLUMN authority text NOT NULL DEFAULT '';
CREATE INDEX factors_authority ON factors (authority, subject);
-- Enrolled in a session that nobody had asked for: it opens no more than that session did.
ALTER TABLE factors ADD COLUMN unasked boolean NOT NULL DEFAULT false;
ALTER TABLE recovery_codes ADD COLUMN authority text NOT NULL DEFAULT '';
CREATE INDEX recovery_codes_authority ON recovery_codes (authority, subject);
ALTER TABLE personal_tokens ADD COLUMN authority text NOT NULL DEFAULT '';
ALTER TABLE personal_tokens ADD COLUMN unasked boolean NOT NULL DEFAULT false;
CREATE INDEX personal_tokens_authority ON personal_tokens (authority, subject);
ALTER TABLE tokens ADD COLUMN owner_authority text;
ALTER TABLE device_codes ADD COLUMN owner_authority text;
ALTER TABLE agreements ADD COLUMN authority text NOT NULL DEFAULT '';
ALTER TABLE person_roles ADD COLUMN authority text NOT NULL DEFAULT '';
ALTER TABLE person_roles DROP CONSTRAINT person_roles_pkey;
ALTER TABLE person_roles ADD PRIMARY KEY (authority, provider, subject, gate);
ALTER TABLE role_changes ADD COLUMN authority text NOT NULL DEFAULT '';
CREATE INDEX role_changes_authority ON role_changes (authority, subject, at);
-- Rows of before are given the authority that the live edition knows, once, by the first node that starts.
CREATE TABLE unadopted (single boolean PRIMARY KEY DEFAULT true CHECK (single));
INSERT INTO unadopted DEFAULT VALUES;

-- What a program's token or certificate is known by, whatever signature or gate it comes with, and until when it could come again: one
-- whose session was ended opens no other until it has run out itself.
ALTER TABLE gate_tokens ADD COLUMN thing bytea, ADD COLUMN remember_until timestamptz;
CREATE TABLE spent (
    thing       bytea PRIMARY KEY,
    expires_at  timestamptz NOT NULL
);
CREATE INDEX spent_expiry ON spent (expires_at);

-- People who are kept out whatever the rules say, until it is lifted: it needs no edition.
CREATE TABLE blocks (
    authority  text NOT NULL,
    subject    text NOT NULL,
    -- How the engineer knew them.
    provider   text NOT NULL,
    name       text NOT NULL,
    at         timestamptz NOT NULL,
    by         text NOT NULL,
    why        text NOT NULL,
    PRIMARY KEY (authority, subject)
);
