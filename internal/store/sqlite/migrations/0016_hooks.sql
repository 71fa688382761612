-- +goose Up
-- What hooks set off: each event by each hook at most once. state is waiting, sending, sent, failed or unsure; tries counts how often it was
-- tried, next is when it is tried again. hooks says since when each is there: what happened before sets nothing off.
CREATE TABLE deliveries (
    id    INTEGER PRIMARY KEY,
    hook  TEXT NOT NULL,
    event TEXT NOT NULL,
    body  TEXT NOT NULL,
    at    INTEGER NOT NULL,
    state TEXT NOT NULL,
    tries INTEGER NOT NULL DEFAULT 0,
    next  INTEGER NOT NULL,
    note  TEXT NOT NULL DEFAULT '',
    UNIQUE (hook, event)
);
CREATE INDEX deliveries_by_state ON deliveries (state, next);
CREATE TABLE hooks (
    name  TEXT PRIMARY KEY,
    since INTEGER NOT NULL
);

-- +goose Down
DROP TABLE hooks;
DROP TABLE deliveries;
