-- +goose Up
-- The files of templates that something was raised from, by their digest; body is a map of paths to contents, as JSON.
CREATE TABLE sources (
    digest  TEXT PRIMARY KEY,
    created INTEGER NOT NULL,
    body    BLOB NOT NULL
) WITHOUT ROWID;

-- +goose Down
DROP TABLE sources;
