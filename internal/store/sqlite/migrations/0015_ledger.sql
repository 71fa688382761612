-- +goose Up
-- What was written down of the runs of a deployment, which the journals say too; runs says of which, as they were. What sites asked from
-- when on, and whose a deployment was from when on.
CREATE TABLE books (
    deployment INTEGER PRIMARY KEY,
    runs       TEXT NOT NULL,
    body       BLOB NOT NULL
);
CREATE TABLE price_lists (
    site TEXT NOT NULL,
    at   INTEGER NOT NULL,
    body BLOB NOT NULL,
    PRIMARY KEY (site, at)
);
CREATE TABLE owners (
    deployment INTEGER NOT NULL,
    at         INTEGER NOT NULL,
    owner      TEXT NOT NULL,
    PRIMARY KEY (deployment, at)
);
INSERT INTO owners (deployment, at, owner) SELECT id, created, owner FROM deployments;

-- +goose Down
DROP TABLE owners;
DROP TABLE price_lists;
DROP TABLE books;
