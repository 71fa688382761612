-- +goose Up
-- owner is whose a deployment is, as JSON: team, person, service, stage and tags; '' is nobody's in particular.
ALTER TABLE deployments ADD COLUMN owner TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE deployments DROP COLUMN owner;
