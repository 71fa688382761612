-- +goose Up
-- What a reaction did to a deployment and saw of it; and who set the file of reactions, which it is done as.
CREATE TABLE reaction_states (
    reaction   TEXT NOT NULL,
    deployment INTEGER NOT NULL,
    body       TEXT NOT NULL,
    PRIMARY KEY (reaction, deployment)
);
CREATE TABLE reaction_file (
    one    INTEGER PRIMARY KEY CHECK (one = 1),
    digest TEXT NOT NULL,
    who    TEXT NOT NULL,
    way    TEXT NOT NULL
);

-- +goose Down
DROP TABLE reaction_file;
DROP TABLE reaction_states;
