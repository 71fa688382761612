-- +goose Up
-- What programs show to act for somebody; of their secrets only digests.
CREATE TABLE tokens (
    id         TEXT PRIMARY KEY,
    made       INTEGER NOT NULL,
    body       TEXT NOT NULL,
    secret     TEXT NOT NULL,
    before     TEXT NOT NULL DEFAULT '',
    until      INTEGER NOT NULL DEFAULT 0,
    revoked    INTEGER NOT NULL DEFAULT 0,
    revoked_by TEXT NOT NULL DEFAULT '',
    used       INTEGER NOT NULL DEFAULT 0,
    used_from  TEXT NOT NULL DEFAULT ''
);
-- What was asked with a key, so that it is done once.
CREATE TABLE once (
    who    TEXT NOT NULL,
    key    TEXT NOT NULL,
    digest TEXT NOT NULL,
    at     INTEGER NOT NULL,
    status INTEGER NOT NULL DEFAULT 0,
    type   TEXT NOT NULL DEFAULT '',
    body   BLOB,
    PRIMARY KEY (who, key)
);

-- +goose Down
DROP TABLE once;
DROP TABLE tokens;
