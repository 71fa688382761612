-- +goose Up
-- A worker is a text; of runs from long ago, and of those that nobody had begun, it was a number.
UPDATE runs SET worker = '' WHERE typeof(worker) <> 'text';

-- +goose Down
UPDATE runs SET worker = worker;
