-- The revocation counter under which a session's rights were last read again by order: nodes forget what they decided.
ALTER TABLE sessions ADD COLUMN re_read bigint;
CREATE INDEX sessions_re_read ON sessions (re_read) WHERE re_read IS NOT NULL;
