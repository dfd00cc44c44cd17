ALTER TABLE tokens
    -- until when it is good; the first token, which a file gives, has no end of its own
    ADD COLUMN expires_at     timestamptz,
    -- the person whose roles bound it; null for the first token
    ADD COLUMN owner_provider text,
    ADD COLUMN owner_subject  text,
    ADD COLUMN owner_name     text,
    -- parts of the API it is good for; null for all
    ADD COLUMN areas          text[],
    ADD COLUMN used_at        timestamptz;
