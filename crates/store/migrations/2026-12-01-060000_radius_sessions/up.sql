-- Sessions at RADIUS clients, each beside its presence: what names it there, what it was told, and what is told of it.
CREATE TABLE radius_sessions (
    presence  uuid PRIMARY KEY REFERENCES presences (id) ON DELETE CASCADE,
    client    text NOT NULL,
    -- What the client calls itself, and the number that it gives the session: together they name it.
    nas       text NOT NULL,
    acct      text,
    -- The address that the client sends from: where orders go.
    sends_from text NOT NULL,
    -- What else names it in an order (RFC 5176 section 3): numbers of attributes with their octets.
    known_by  jsonb NOT NULL,
    -- What the client was told last, in words.
    given     jsonb NOT NULL,
    -- What the client tells of it since.
    account   jsonb NOT NULL,
    -- The last order about it, and what came of that.
    ordered   jsonb
);
CREATE INDEX radius_sessions_acct ON radius_sessions (client, nas, acct);
