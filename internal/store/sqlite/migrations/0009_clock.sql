-- +goose Up
-- Who holds what only one process of a workspace does at a time: its beat says that it lives, its epoch counts the holders.
CREATE TABLE leases (
    name   TEXT PRIMARY KEY,
    holder TEXT NOT NULL,
    note   TEXT NOT NULL,
    epoch  INTEGER NOT NULL,
    since  INTEGER NOT NULL,
    beat   INTEGER NOT NULL
);
-- What is due at a time, or again and again; seen is up to when it was seen to.
CREATE TABLE dues (
    id      INTEGER PRIMARY KEY,
    kind    TEXT NOT NULL,
    subject TEXT NOT NULL,
    rule    TEXT NOT NULL,
    zone    TEXT NOT NULL,
    start   INTEGER NOT NULL,
    who     TEXT NOT NULL,
    way     TEXT NOT NULL,
    seen    INTEGER NOT NULL,
    UNIQUE (kind, subject)
);
-- What became of each time at which something was due: one row, so that it is done at most once. missed counts those before it that
-- were not done, tries how often it was tried, again is when it is tried next.
CREATE TABLE firings (
    due     INTEGER NOT NULL,
    at      INTEGER NOT NULL,
    kind    TEXT NOT NULL,
    subject TEXT NOT NULL,
    state   TEXT NOT NULL,
    missed  INTEGER NOT NULL,
    tries   INTEGER NOT NULL,
    began   INTEGER NOT NULL,
    ended   INTEGER NOT NULL DEFAULT 0,
    again   INTEGER NOT NULL DEFAULT 0,
    note    TEXT NOT NULL DEFAULT '',
    PRIMARY KEY (due, at)
);
CREATE INDEX firings_began ON firings (began);

-- +goose Down
DROP TABLE firings;
DROP TABLE dues;
DROP TABLE leases;
