-- +goose Up
-- Of the requests that are not over and of which nothing was made, no two have one name. Those from before have none here.
ALTER TABLE requests ADD COLUMN name TEXT NOT NULL DEFAULT '';
CREATE UNIQUE INDEX one_open_request_of_a_name ON requests (name) WHERE name <> '' AND state IN ('waiting', 'priced again', 'approved');

-- +goose Down
DROP INDEX one_open_request_of_a_name;
ALTER TABLE requests DROP COLUMN name;
