-- How many expectations the result of a run has, beside how many of them do not hold.
-- +goose Up
ALTER TABLE runs ADD COLUMN expected integer;
UPDATE runs SET expected = (SELECT count(*) FROM jsonb_each(result -> 'expect')) WHERE unmet IS NOT NULL;

-- +goose Down
ALTER TABLE runs DROP COLUMN expected;
