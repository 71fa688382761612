-- +goose Up
-- What is taken of quotas. An account is a quota, or what it gives each of those it is for; of a month's budget, with #2006-01. most is the
-- limit when it was last taken from. A hold is what somebody has of them for one thing, takes how much of which account.
CREATE TABLE accounts (
    account TEXT NOT NULL,
    measure TEXT NOT NULL,
    most    INTEGER NOT NULL,
    taken   INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (account, measure)
);
-- +goose StatementBegin
CREATE TRIGGER no_account_is_overrun BEFORE UPDATE OF taken ON accounts WHEN NEW.taken > OLD.taken AND NEW.taken > NEW.most
BEGIN SELECT RAISE(ABORT, 'the quota is used up'); END;
-- +goose StatementEnd
CREATE TABLE holds (
    id         INTEGER PRIMARY KEY,
    request    INTEGER NOT NULL,
    deployment INTEGER NOT NULL,
    owner      TEXT NOT NULL,
    parts      TEXT NOT NULL,
    state      TEXT NOT NULL,
    at         INTEGER NOT NULL
);
CREATE INDEX holds_of_deployments ON holds (deployment);
CREATE TABLE takes (
    hold    INTEGER NOT NULL REFERENCES holds (id),
    account TEXT NOT NULL,
    measure TEXT NOT NULL,
    amount  INTEGER NOT NULL,
    PRIMARY KEY (hold, account, measure)
);

-- +goose Down
DROP TABLE takes;
DROP TABLE holds;
DROP TABLE accounts;
