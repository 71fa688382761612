-- +goose Up
-- What somebody asked of an offer, and what became of it. body is the rest of the request as JSON; request_events is its thread.
CREATE TABLE requests (
    id         INTEGER PRIMARY KEY,
    offer      TEXT NOT NULL,
    person     TEXT NOT NULL,
    team       TEXT NOT NULL,
    state      TEXT NOT NULL,
    run        INTEGER NOT NULL DEFAULT 0,
    deployment INTEGER NOT NULL DEFAULT 0,
    body       TEXT NOT NULL,
    created    INTEGER NOT NULL,
    changed    INTEGER NOT NULL
);
CREATE INDEX requests_of_deployments ON requests (deployment);
CREATE TABLE request_events (
    request INTEGER NOT NULL REFERENCES requests (id),
    seq     INTEGER NOT NULL,
    at      INTEGER NOT NULL,
    who     TEXT NOT NULL,
    way     TEXT NOT NULL,
    stage   TEXT NOT NULL,
    rule    TEXT NOT NULL,
    text    TEXT NOT NULL,
    PRIMARY KEY (request, seq)
);

-- +goose Down
DROP TABLE request_events;
DROP TABLE requests;
