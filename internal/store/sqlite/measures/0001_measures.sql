-- +goose Up
-- What is measured, rows of columns (core/measure), and what is in no row yet.
CREATE TABLE things (
    id   INTEGER PRIMARY KEY,
    key  TEXT NOT NULL UNIQUE,
    body TEXT NOT NULL
);
CREATE TABLE measured (
    thing INTEGER NOT NULL,
    level INTEGER NOT NULL,
    first INTEGER NOT NULL,
    body  BLOB NOT NULL
);
CREATE UNIQUE INDEX measured_of ON measured (thing, level, first);
CREATE INDEX measured_at ON measured (level, first);
CREATE TABLE tails (
    grp   INTEGER NOT NULL,
    first INTEGER NOT NULL,
    slot  INTEGER NOT NULL,
    body  BLOB NOT NULL,
    PRIMARY KEY (grp, slot)
);

-- +goose Down
DROP TABLE tails;
DROP TABLE measured;
DROP TABLE things;
