-- +goose Up
-- What is promised of deployments, one of a kind each. What is due for one is in dues, and what became of that in firings.
CREATE TABLE promises (
    deployment INTEGER NOT NULL,
    kind       TEXT NOT NULL,
    body       TEXT NOT NULL,
    changed    INTEGER NOT NULL,
    PRIMARY KEY (deployment, kind)
);
CREATE INDEX firings_of ON firings (kind, subject, at);

-- +goose Down
DROP INDEX firings_of;
DROP TABLE promises;
