-- A small picture of each revision, drawn when it is saved; those saved before have none.
-- +goose Up
ALTER TABLE revisions ADD COLUMN sketch jsonb;

-- +goose Down
ALTER TABLE revisions DROP COLUMN sketch;
