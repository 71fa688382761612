-- +goose Up
-- Moves of workloads. body is what is to be moved where and how, as JSON; move_runs are the runs that do it: those that
-- move a wave, go back from one, or commit it.
CREATE TABLE moves (
    id         INTEGER PRIMARY KEY,
    deployment INTEGER NOT NULL REFERENCES deployments (id),
    created    INTEGER NOT NULL,
    who        TEXT NOT NULL,
    body       TEXT NOT NULL
);

CREATE TABLE move_runs (
    move INTEGER NOT NULL REFERENCES moves (id),
    wave INTEGER NOT NULL,
    kind TEXT NOT NULL,
    run  INTEGER NOT NULL REFERENCES runs (id),
    PRIMARY KEY (move, run)
) WITHOUT ROWID;

-- Pairs of sites, by name in order; body is who may start moves and how the link was found last, as JSON.
CREATE TABLE pairs (
    a    TEXT NOT NULL,
    b    TEXT NOT NULL,
    body TEXT NOT NULL,
    PRIMARY KEY (a, b)
) WITHOUT ROWID;

-- +goose Down
DROP TABLE pairs;
DROP TABLE move_runs;
DROP TABLE moves;
