-- Machines that a network gate lets through, or let through: by whom, since when, and how much passed. They outlive their session.
CREATE TABLE presences (
    id         uuid PRIMARY KEY,
    session_id uuid,
    gate       text NOT NULL,
    zone       text NOT NULL,
    node       text NOT NULL,
    interface  text NOT NULL,
    -- The hardware address on the link; without one it is the address below, where another router stands between.
    hardware   text,
    address    text NOT NULL,
    mark       integer NOT NULL,
    provider   text NOT NULL,
    authority  text NOT NULL,
    subject    text NOT NULL,
    name       text NOT NULL,
    crossing   text NOT NULL,
    reach      jsonb NOT NULL,
    began      timestamptz NOT NULL,
    until      timestamptz,
    quota      bigint,
    rate       bigint,
    up         bigint NOT NULL DEFAULT 0,
    down       bigint NOT NULL DEFAULT 0,
    counted_at timestamptz NOT NULL,
    ended_at   timestamptz,
    ended_by   text
);
CREATE INDEX presences_open ON presences (node) WHERE ended_at IS NULL;
CREATE INDEX presences_person ON presences (authority, subject, gate, began);
CREATE INDEX presences_began ON presences (began);
CREATE INDEX presences_session ON presences (session_id) WHERE ended_at IS NULL;
-- Which addresses such a machine had, and when.
CREATE TABLE presence_addresses (
    presence uuid NOT NULL REFERENCES presences (id) ON DELETE CASCADE,
    address  text NOT NULL,
    began    timestamptz NOT NULL,
    ended_at timestamptz,
    PRIMARY KEY (presence, address, began)
);
CREATE INDEX presence_addresses_address ON presence_addresses (address, began);
-- Which terms of use somebody accepted, and when.
CREATE TABLE terms_accepted (
    gate      text NOT NULL,
    version   text NOT NULL,
    authority text NOT NULL,
    subject   text NOT NULL,
    provider  text NOT NULL,
    name      text NOT NULL,
    address   text NOT NULL,
    at        timestamptz NOT NULL,
    PRIMARY KEY (gate, version, authority, subject)
);
-- Which zones a node guards, and how its packet filter is; none where it guards nothing.
ALTER TABLE nodes ADD COLUMN guards jsonb;
