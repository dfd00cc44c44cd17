-- Forms that a sign-in interrupted: sealed, bound to gate and browser, good once and for a short while.
CREATE TABLE kept_forms (
    digest bytea PRIMARY KEY,
    gate text NOT NULL,
    binding bytea NOT NULL,
    sealed bytea NOT NULL,
    expires_at timestamptz NOT NULL
);
CREATE INDEX kept_forms_expires ON kept_forms (expires_at);
