ALTER TABLE editions
    -- the earlier edition it is a copy of, where it is a roll-back
    ADD COLUMN copy_of      integer,
    -- until when it must be confirmed, and by whom it was; otherwise it goes back by itself
    ADD COLUMN confirm_by   timestamptz,
    ADD COLUMN confirmed_by text,
    -- versions of secrets in use when it was published, by name
    ADD COLUMN secrets      jsonb;
-- One row: the next edition while it is written.
CREATE TABLE drafts (
    single     boolean PRIMARY KEY DEFAULT true CHECK (single),
    version    bigint NOT NULL,
    document   text NOT NULL,
    based_on   integer NOT NULL,
    author     text NOT NULL,
    changed_at timestamptz NOT NULL
);
