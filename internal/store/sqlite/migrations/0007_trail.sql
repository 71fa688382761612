-- +goose Up
-- Who did what to what, see package trail. Entries are added and never changed; AUTOINCREMENT remembers how many there ever were.
CREATE TABLE trail (
    seq    INTEGER PRIMARY KEY AUTOINCREMENT,
    at     INTEGER NOT NULL,
    who    TEXT NOT NULL,
    way    TEXT NOT NULL,
    act    TEXT NOT NULL,
    target TEXT NOT NULL,
    plan   TEXT NOT NULL,
    run    INTEGER NOT NULL,
    note   TEXT NOT NULL,
    failed TEXT NOT NULL,
    before TEXT NOT NULL,
    digest TEXT NOT NULL
);

-- +goose StatementBegin
CREATE TRIGGER trail_is_not_changed BEFORE UPDATE ON trail BEGIN SELECT RAISE(ABORT, 'entries of the trail are not changed'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER trail_is_not_shortened BEFORE DELETE ON trail BEGIN SELECT RAISE(ABORT, 'entries of the trail are not removed'); END;
-- +goose StatementEnd

CREATE INDEX trail_of_run ON trail (run);

-- +goose Down
DROP TABLE trail;
