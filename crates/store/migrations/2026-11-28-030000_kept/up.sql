-- Migrations only go forward; see docs/architecture.md.
-- The password that somebody typed, sealed, for gates that hand it over. Gone when the session ends.
ALTER TABLE sessions ADD COLUMN kept bytea;
