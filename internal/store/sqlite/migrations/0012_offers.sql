-- +goose Up
-- Versions of offers: body is the offer as JSON, source the digest of its template's files. state is published, superseded or withdrawn;
-- of each name at most one version is published.
CREATE TABLE offers (
    name    TEXT NOT NULL,
    number  INTEGER NOT NULL,
    body    TEXT NOT NULL,
    source  TEXT NOT NULL,
    who     TEXT NOT NULL,
    way     TEXT NOT NULL,
    at      INTEGER NOT NULL,
    state   TEXT NOT NULL,
    PRIMARY KEY (name, number)
);
CREATE UNIQUE INDEX one_version_is_published ON offers (name) WHERE state = 'published';

-- +goose Down
DROP TABLE offers;
