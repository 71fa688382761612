-- +goose Up
-- A deployment is what runs leave standing; every run belongs to one. mark is what everything of it bears at the sites.
CREATE TABLE deployments (
    id      INTEGER PRIMARY KEY,
    name    TEXT NOT NULL,
    mark    TEXT NOT NULL,
    template TEXT NOT NULL DEFAULT '',
    created INTEGER NOT NULL
);

-- wanted is the plan of the whole design that the run leads to; 0 is none, as of a run that retires everything.
-- epoch counts the workers that a run has had: what an earlier one writes is refused. limits bound how much goes on at
-- once, as JSON. left says that a person settled what failed.
ALTER TABLE runs ADD COLUMN deployment INTEGER NOT NULL DEFAULT 0;
ALTER TABLE runs ADD COLUMN wanted INTEGER NOT NULL DEFAULT 0;
ALTER TABLE runs ADD COLUMN purpose TEXT NOT NULL DEFAULT '';
ALTER TABLE runs ADD COLUMN epoch INTEGER NOT NULL DEFAULT 0;
ALTER TABLE runs ADD COLUMN limits TEXT NOT NULL DEFAULT '{}';
ALTER TABLE runs ADD COLUMN left INTEGER NOT NULL DEFAULT 0;

-- What a person decided on steps of a run; taken by its worker in this order.
CREATE TABLE decisions (
    id    INTEGER PRIMARY KEY,
    run   INTEGER NOT NULL REFERENCES runs (id),
    step  TEXT NOT NULL,
    verb  TEXT NOT NULL,
    at    INTEGER NOT NULL,
    taken INTEGER NOT NULL DEFAULT 0
);

-- How long steps took, by what makes them alike.
CREATE TABLE durations (
    key     TEXT NOT NULL,
    run     INTEGER NOT NULL,
    step    TEXT NOT NULL,
    seconds REAL NOT NULL,
    at      INTEGER NOT NULL,
    PRIMARY KEY (key, run, step)
) WITHOUT ROWID;

-- Runs from before deployments each made one of their own.
INSERT INTO deployments (id, name, mark, created)
    SELECT r.id, p.name, p.name || '-' || r.id || '-' || (r.created / 1000000000), r.created FROM runs r JOIN plans p ON p.id = r.plan;
UPDATE runs SET deployment = id, wanted = plan;

-- +goose Down
DROP TABLE durations;
DROP TABLE decisions;
DROP TABLE deployments;
