-- +goose Up
-- Plans that somebody proposed, for somebody to confirm. ground is what they were worked out from; state is open, confirmed or
-- withdrawn, run the run that came of it.
CREATE TABLE proposals (
    id         INTEGER PRIMARY KEY,
    created    INTEGER NOT NULL,
    until      INTEGER NOT NULL,
    who        TEXT NOT NULL,
    way        TEXT NOT NULL,
    deployment INTEGER NOT NULL,
    name       TEXT NOT NULL,
    purpose    TEXT NOT NULL,
    template   TEXT NOT NULL,
    plan       INTEGER NOT NULL REFERENCES plans (id),
    wanted     INTEGER NOT NULL,
    limits     TEXT NOT NULL,
    ground     TEXT NOT NULL,
    state      TEXT NOT NULL,
    run        INTEGER NOT NULL DEFAULT 0
);

-- +goose Down
DROP TABLE proposals;
