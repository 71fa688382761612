-- +goose Up
-- A proposal is of a plan, of a wave of a move, or of settling findings: kind is '', 'move' or 'settle'; body is what is to be moved or
-- settled, act the act that came of it.
ALTER TABLE proposals ADD COLUMN kind TEXT NOT NULL DEFAULT '';
ALTER TABLE proposals ADD COLUMN body TEXT NOT NULL DEFAULT '';
ALTER TABLE proposals ADD COLUMN act INTEGER NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE proposals DROP COLUMN act;
ALTER TABLE proposals DROP COLUMN body;
ALTER TABLE proposals DROP COLUMN kind;
