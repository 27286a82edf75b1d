-- Where nodes were put by hand on the board of a model; not a part of its text.
-- +goose Up
CREATE TABLE places (
    model_id bigint NOT NULL REFERENCES models ON DELETE CASCADE,
    node text NOT NULL,
    x double precision NOT NULL,
    y double precision NOT NULL,
    PRIMARY KEY (model_id, node)
);
ALTER TABLE models ADD COLUMN placed_at timestamptz; -- when one was put last

-- +goose Down
ALTER TABLE models DROP COLUMN placed_at;
DROP TABLE places;
