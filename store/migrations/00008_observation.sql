-- What was observed of the systems that models are of, and where they drift apart.
-- +goose Up
CREATE TABLE observed_spans ( -- of traces that have not been summed up yet
    id bigint PRIMARY KEY GENERATED ALWAYS AS IDENTITY,
    model_id bigint NOT NULL REFERENCES models ON DELETE CASCADE,
    hour timestamptz NOT NULL, -- in which their trace began
    trace text NOT NULL,
    spans integer NOT NULL,
    packed bytea NOT NULL,
    received_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX observed_spans_by_trace ON observed_spans (model_id, trace);

CREATE TABLE observed_hours (
    model_id bigint NOT NULL REFERENCES models ON DELETE CASCADE,
    hour timestamptz NOT NULL,
    spans bigint NOT NULL DEFAULT 0,
    traces bigint NOT NULL DEFAULT 0,
    refused bigint NOT NULL DEFAULT 0, -- spans that were not kept
    summary bytea, -- null: nothing is summed up yet
    PRIMARY KEY (model_id, hour)
);

CREATE TABLE drifts (
    id bigint PRIMARY KEY GENERATED ALWAYS AS IDENTITY,
    model_id bigint NOT NULL REFERENCES models ON DELETE CASCADE,
    what text NOT NULL,
    subject text NOT NULL,
    numbers jsonb NOT NULL, -- where it is a number
    revision integer NOT NULL, -- that it was last compared with
    found_at timestamptz NOT NULL DEFAULT now(),
    seen_at timestamptz NOT NULL DEFAULT now(),
    ended_at timestamptz,
    sent_at timestamptz, -- to the webhook
    tries integer NOT NULL DEFAULT 0,
    try_at timestamptz NOT NULL DEFAULT now(),
    trouble text NOT NULL DEFAULT ''
);
CREATE UNIQUE INDEX drifts_open ON drifts (model_id, what, subject) WHERE ended_at IS NULL;
CREATE INDEX drifts_of_model ON drifts (model_id, id);

ALTER TABLE models ADD COLUMN webhook text NOT NULL DEFAULT ''; -- empty: none
ALTER TABLE models ADD COLUMN compared integer NOT NULL DEFAULT 0; -- the revision that drift was last noted for

-- +goose Down
ALTER TABLE models DROP COLUMN compared, DROP COLUMN webhook;
DROP TABLE drifts, observed_hours, observed_spans;
