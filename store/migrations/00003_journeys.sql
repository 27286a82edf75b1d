-- What happened to messages of a run, step by step, once somebody has asked.
-- +goose Up
CREATE TABLE run_journeys (
    run_id   bigint PRIMARY KEY REFERENCES runs ON DELETE CASCADE,
    journeys bytea NOT NULL -- JSON, packed with gzip
);
-- What has happened so far in a part that is worked on.
ALTER TABLE run_parts ADD COLUMN entered bigint NOT NULL DEFAULT 0, ADD COLUMN lost bigint NOT NULL DEFAULT 0, ADD COLUMN parked bigint NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE run_parts DROP COLUMN entered, DROP COLUMN lost, DROP COLUMN parked;
DROP TABLE run_journeys;
