-- +goose Up
-- What a run has of the pools of a site: an address, or "vlan N". Nothing is held twice.
CREATE TABLE reservations (
    site  TEXT NOT NULL,
    value TEXT NOT NULL,
    run   INTEGER NOT NULL REFERENCES runs (id),
    PRIMARY KEY (site, value)
) WITHOUT ROWID;

-- +goose Down
DROP TABLE reservations;
