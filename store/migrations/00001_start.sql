-- +goose Up
CREATE TABLE users (
    id         bigserial PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    role       text NOT NULL CHECK (role IN ('viewer', 'editor', 'admin')),
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE sign_in_links (
    hash       text  PRIMARY KEY,
    user_id    bigint NOT NULL REFERENCES users ON DELETE CASCADE,
    expires_at timestamptz NOT NULL
);
CREATE TABLE sessions (
    hash       text  PRIMARY KEY,
    user_id    bigint NOT NULL REFERENCES users ON DELETE CASCADE,
    expires_at timestamptz NOT NULL
);
CREATE TABLE models (
    id         bigserial PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE revisions (
    id         bigserial PRIMARY KEY,
    model_id   bigint NOT NULL REFERENCES models ON DELETE CASCADE,
    number     int NOT NULL,
    text       text NOT NULL,
    note       text NOT NULL DEFAULT '',
    author     text NOT NULL,
    errors     int NOT NULL,
    warnings   int NOT NULL,
    notes      int NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (model_id, number)
);
CREATE TABLE scenarios (
    id         bigserial PRIMARY KEY,
    model_id   bigint NOT NULL REFERENCES models ON DELETE CASCADE,
    name       text NOT NULL,
    text       text NOT NULL,
    updated_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (model_id, name)
);
CREATE TABLE runs (
    id          bigserial PRIMARY KEY,
    model_id    bigint NOT NULL REFERENCES models ON DELETE CASCADE,
    revision    int NOT NULL,
    scenario    text NOT NULL,
    text        text NOT NULL,
    state       text NOT NULL CHECK (state IN ('queued', 'running', 'done', 'failed', 'cancelled')),
    error       text NOT NULL DEFAULT '',
    progress    double precision NOT NULL DEFAULT 0,
    author      text NOT NULL,
    result      jsonb,
    created_at  timestamptz NOT NULL DEFAULT now(),
    started_at  timestamptz,
    finished_at timestamptz
);
CREATE INDEX runs_by_model ON runs (model_id, id DESC);
CREATE INDEX runs_waiting ON runs (id) WHERE state IN ('queued', 'running');

-- +goose Down
DROP TABLE runs, scenarios, revisions, models, sessions, sign_in_links, users;
