-- Ways in of our own: tries that are counted, and codes sent by mail.
CREATE TABLE tries (
    -- What is tried, and by whom or for whom: a MAC, since people type passwords where names belong.
    key bytea NOT NULL,
    -- The window of time that it falls into, in whole windows since 1970.
    span bigint NOT NULL,
    count integer NOT NULL,
    expires_at timestamptz NOT NULL,
    PRIMARY KEY (key, span)
);
CREATE INDEX tries_expires ON tries (expires_at);
CREATE TABLE mailed_codes (
    -- The flow in which it was asked for, and so the browser.
    flow bytea PRIMARY KEY,
    -- A MAC under the ring of flow and code; none where nothing was sent, so that nothing shows by its absence.
    code bytea,
    -- The address, sealed.
    mail bytea NOT NULL,
    tries_left smallint NOT NULL,
    expires_at timestamptz NOT NULL
);
CREATE INDEX mailed_codes_expires ON mailed_codes (expires_at);
