-- Migrations only go forward; see docs/architecture.md.
-- Roles that people had at a gate, or in the console, when it was last decided, and what became of them.
CREATE TABLE person_roles (
    provider text NOT NULL,
    subject text NOT NULL,
    gate text NOT NULL,
    roles text[] NOT NULL,
    -- From when they are so.
    since timestamptz NOT NULL,
    crossing text NOT NULL,
    -- When it was last decided that they are.
    seen_at timestamptz NOT NULL,
    PRIMARY KEY (provider, subject, gate)
);
CREATE INDEX person_roles_seen ON person_roles (seen_at);
CREATE TABLE role_changes (
    id uuid PRIMARY KEY,
    provider text NOT NULL,
    subject text NOT NULL,
    gate text NOT NULL,
    at timestamptz NOT NULL,
    crossing text NOT NULL,
    gained text[] NOT NULL,
    lost text[] NOT NULL,
    why jsonb NOT NULL
);
CREATE INDEX role_changes_person ON role_changes (provider, subject, at);
CREATE INDEX role_changes_at ON role_changes (at);
