-- Sessions of the emergency account, which no edition knows.
CREATE TABLE emergency_sessions (
    digest  bytea PRIMARY KEY,
    address text NOT NULL,
    began   timestamptz NOT NULL,
    until   timestamptz NOT NULL
);
