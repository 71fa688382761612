-- +goose Up
-- Alerts, as whoever watches worked them out last; ended is 0 while one goes on. What people said of one is kept apart, since others write it.
CREATE TABLE alerts (
    id    INTEGER PRIMARY KEY,
    since INTEGER NOT NULL,
    ended INTEGER NOT NULL,
    body  TEXT NOT NULL
);
CREATE INDEX alerts_ended ON alerts (ended, since);
CREATE TABLE alert_words (
    alert INTEGER NOT NULL REFERENCES alerts (id) ON DELETE CASCADE,
    word  TEXT NOT NULL,
    body  TEXT NOT NULL,
    PRIMARY KEY (alert, word)
);

-- +goose Down
DROP TABLE alert_words;
DROP TABLE alerts;
