-- How many expectations of a run do not hold, for lists: NULL where it has none.
-- +goose Up
ALTER TABLE runs ADD COLUMN unmet integer;
UPDATE runs SET unmet = (SELECT count(*) FILTER (WHERE NOT (e.value ->> 'holds')::boolean) FROM jsonb_each(result -> 'expect') e)
    WHERE jsonb_typeof(result -> 'expect') = 'object' AND result -> 'expect' <> '{}'::jsonb;
-- The journeys of a result have other names now.
UPDATE runs SET result = jsonb_set(result, '{journeys}', (result -> 'journeys') - 'damaged' - 'open'
        || jsonb_build_object('failed', result -> 'journeys' -> 'damaged', 'in_flight', result -> 'journeys' -> 'open'))
    WHERE result -> 'journeys' ? 'damaged';

-- +goose Down
UPDATE runs SET result = jsonb_set(result, '{journeys}', (result -> 'journeys') - 'failed' - 'in_flight'
        || jsonb_build_object('damaged', result -> 'journeys' -> 'failed', 'open', result -> 'journeys' -> 'in_flight'))
    WHERE result -> 'journeys' ? 'failed';
ALTER TABLE runs DROP COLUMN unmet;
