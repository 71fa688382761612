-- +goose Up
CREATE TABLE plans (
    id      INTEGER PRIMARY KEY,
    name    TEXT NOT NULL,
    preset  TEXT NOT NULL,
    cost     REAL NOT NULL,
    currency TEXT NOT NULL,
    created INTEGER NOT NULL,
    body    BLOB NOT NULL
);

-- state: waiting, under way, standing, failed or stopped. worker is the process that runs it, beat when it last said so.
CREATE TABLE runs (
    id      INTEGER PRIMARY KEY,
    plan    INTEGER NOT NULL REFERENCES plans (id),
    state   TEXT NOT NULL,
    created INTEGER NOT NULL,
    ended   INTEGER NOT NULL DEFAULT 0,
    steps   INTEGER NOT NULL DEFAULT 0,
    worker  INTEGER NOT NULL DEFAULT 0,
    beat    INTEGER NOT NULL DEFAULT 0,
    cancel  INTEGER NOT NULL DEFAULT 0
);

CREATE TABLE events (
    run      INTEGER NOT NULL REFERENCES runs (id),
    seq      INTEGER NOT NULL,
    at       INTEGER NOT NULL,
    kind     TEXT NOT NULL,
    step     TEXT NOT NULL,
    resource TEXT NOT NULL,
    body     TEXT NOT NULL,
    PRIMARY KEY (run, seq)
) WITHOUT ROWID;

-- +goose Down
DROP TABLE events;
DROP TABLE runs;
DROP TABLE plans;
