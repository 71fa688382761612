-- +goose Up
-- What the inventory holds. body is the record as JSON; history has what it was before each change, "" where it was not.
CREATE TABLE records (
    id    TEXT PRIMARY KEY,
    class TEXT NOT NULL,
    site  TEXT NOT NULL,
    body  TEXT NOT NULL
) WITHOUT ROWID;

CREATE TABLE record_history (
    id     INTEGER PRIMARY KEY,
    record TEXT NOT NULL,
    at     INTEGER NOT NULL,
    who    TEXT NOT NULL,
    why    TEXT NOT NULL,
    before TEXT NOT NULL,
    after  TEXT NOT NULL,
    act    INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX record_history_of ON record_history (record, id);
CREATE INDEX record_history_act ON record_history (act);

-- Surveys, and the regions of each: what was seen of a region takes the place of what was seen before when all of it was
-- listed. cursor says how far a listing got, so that a survey that broke off goes on.
CREATE TABLE surveys (
    id      INTEGER PRIMARY KEY,
    site    TEXT NOT NULL,
    deep    INTEGER NOT NULL DEFAULT 0,
    started INTEGER NOT NULL,
    ended   INTEGER NOT NULL DEFAULT 0,
    beat    INTEGER NOT NULL DEFAULT 0,
    state   TEXT NOT NULL
);
CREATE TABLE survey_parts (
    survey INTEGER NOT NULL REFERENCES surveys (id),
    region TEXT NOT NULL,
    kind   TEXT NOT NULL DEFAULT '',
    cursor TEXT NOT NULL DEFAULT '',
    found  INTEGER NOT NULL DEFAULT 0,
    state  TEXT NOT NULL,
    error  TEXT NOT NULL DEFAULT '',
    PRIMARY KEY (survey, region)
) WITHOUT ROWID;
CREATE TABLE staged (
    survey INTEGER NOT NULL,
    region TEXT NOT NULL,
    id     TEXT NOT NULL,
    body   TEXT NOT NULL,
    PRIMARY KEY (survey, region, id)
) WITHOUT ROWID;
CREATE TABLE observations (
    site   TEXT NOT NULL,
    id     TEXT NOT NULL,
    region TEXT NOT NULL,
    seen   INTEGER NOT NULL,
    body   TEXT NOT NULL,
    PRIMARY KEY (site, id)
) WITHOUT ROWID;
-- When all of a region was seen last, and what kept the last try from it.
CREATE TABLE coverage (
    site   TEXT NOT NULL,
    region TEXT NOT NULL,
    seen   INTEGER NOT NULL,
    tried  INTEGER NOT NULL,
    error  TEXT NOT NULL DEFAULT '',
    PRIMARY KEY (site, region)
) WITHOUT ROWID;

-- What each site said that it offers when it was surveyed last, as JSON.
CREATE TABLE facts (
    site TEXT PRIMARY KEY,
    seen INTEGER NOT NULL,
    body TEXT NOT NULL
) WITHOUT ROWID;

-- What persons did to findings: body is the act as JSON, with what is needed to take it back.
CREATE TABLE acts (
    id     INTEGER PRIMARY KEY,
    at     INTEGER NOT NULL,
    who    TEXT NOT NULL,
    undone INTEGER NOT NULL DEFAULT 0,
    body   TEXT NOT NULL
);
CREATE TABLE ignored (
    finding TEXT PRIMARY KEY,
    until   INTEGER NOT NULL,
    reason  TEXT NOT NULL,
    act     INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE identities (
    site     TEXT NOT NULL,
    provider TEXT NOT NULL,
    record   TEXT NOT NULL,
    same     INTEGER NOT NULL,
    act      INTEGER NOT NULL,
    PRIMARY KEY (site, provider, record)
) WITHOUT ROWID;
-- How many findings of each sort there were after each reconciliation.
CREATE TABLE trend (
    at    INTEGER PRIMARY KEY,
    body  TEXT NOT NULL
);
-- Notices that were taken: each is applied once.
CREATE TABLE heard (
    id TEXT PRIMARY KEY,
    at INTEGER NOT NULL
) WITHOUT ROWID;

-- A run that only took note of things, and was taken back, counts for nothing.
ALTER TABLE runs ADD COLUMN void INTEGER NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE runs DROP COLUMN void;
DROP TABLE heard;
DROP TABLE trend;
DROP TABLE identities;
DROP TABLE ignored;
DROP TABLE acts;
DROP TABLE facts;
DROP TABLE coverage;
DROP TABLE observations;
DROP TABLE staged;
DROP TABLE survey_parts;
DROP TABLE surveys;
DROP TABLE record_history;
DROP TABLE records;
