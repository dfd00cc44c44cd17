-- Engineers who agreed to a change of who may do what, before it is published.
CREATE TABLE agreements (
    -- SHA-256 of the document agreed to
    document bytea       NOT NULL,
    -- the edition that was live then: on another one it is another change
    edition  integer     NOT NULL,
    provider text        NOT NULL,
    subject  text        NOT NULL,
    name     text        NOT NULL,
    at       timestamptz NOT NULL,
    PRIMARY KEY (document, edition, provider, subject)
);
