-- Who looks at a model just now; not worth a log.
-- +goose Up
CREATE UNLOGGED TABLE viewers (
    model_id bigint NOT NULL REFERENCES models ON DELETE CASCADE,
    user_id bigint NOT NULL REFERENCES users ON DELETE CASCADE,
    seen_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (model_id, user_id)
);

-- +goose Down
DROP TABLE viewers;
