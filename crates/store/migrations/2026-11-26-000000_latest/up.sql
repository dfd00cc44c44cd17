-- One row: the latest moment that any node has known. A node that starts with an earlier clock goes on from here.
CREATE TABLE latest (
    single boolean PRIMARY KEY DEFAULT true CHECK (single),
    moment timestamptz NOT NULL
);
