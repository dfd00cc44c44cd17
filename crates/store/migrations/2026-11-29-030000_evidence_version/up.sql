-- Migrations only go forward; see docs/architecture.md.
-- A slow look-up must not put back what a newer one replaced: evidence is written over what was read, or not at all.
ALTER TABLE sessions ADD COLUMN evidence_version bigint NOT NULL DEFAULT 0;
