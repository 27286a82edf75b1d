-- Workspaces with members and roles, tokens, passwords, an audit trail, variants,
-- settings, and runs in parts that many workers share.
-- +goose Up
CREATE TABLE workspaces (
    id         bigserial PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    created_at timestamptz NOT NULL DEFAULT now()
);
INSERT INTO workspaces (name) VALUES ('main');

ALTER TABLE users ADD COLUMN admin boolean NOT NULL DEFAULT false; -- of the whole service
ALTER TABLE users ADD COLUMN password text NOT NULL DEFAULT '';    -- argon2id in its usual form; empty: none
UPDATE users SET admin = true WHERE role = 'admin';

CREATE TABLE members (
    workspace_id bigint NOT NULL REFERENCES workspaces ON DELETE CASCADE,
    user_id      bigint NOT NULL REFERENCES users ON DELETE CASCADE,
    role         text NOT NULL CHECK (role IN ('viewer', 'editor', 'admin')),
    PRIMARY KEY (workspace_id, user_id)
);
CREATE INDEX members_by_user ON members (user_id);
INSERT INTO members SELECT w.id, u.id, u.role FROM workspaces w, users u;
ALTER TABLE users DROP COLUMN role;

CREATE TABLE tokens (
    id           bigserial PRIMARY KEY,
    user_id      bigint NOT NULL REFERENCES users ON DELETE CASCADE,
    name         text NOT NULL,
    hash         text NOT NULL UNIQUE,
    role         text NOT NULL CHECK (role IN ('viewer', 'editor', 'admin')), -- at most this
    workspace_id bigint REFERENCES workspaces ON DELETE CASCADE,              -- only this one; null: all of the person's
    created_at   timestamptz NOT NULL DEFAULT now(),
    expires_at   timestamptz NOT NULL,
    used_at      timestamptz
);
CREATE INDEX tokens_by_user ON tokens (user_id);

ALTER TABLE models ADD COLUMN workspace_id bigint REFERENCES workspaces ON DELETE CASCADE;
UPDATE models SET workspace_id = (SELECT id FROM workspaces);
ALTER TABLE models ALTER COLUMN workspace_id SET NOT NULL;
ALTER TABLE models DROP CONSTRAINT models_name_key;
ALTER TABLE models ADD CONSTRAINT models_by_name UNIQUE (workspace_id, name);

ALTER TABLE revisions ADD COLUMN findings jsonb NOT NULL DEFAULT '[]';

CREATE TABLE variants (
    id         bigserial PRIMARY KEY,
    model_id   bigint NOT NULL REFERENCES models ON DELETE CASCADE,
    name       text NOT NULL,
    text       text NOT NULL,
    updated_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (model_id, name)
);

-- A run may be of several variants, or of the points of a sweep, and is done in
-- parts: a replication of a variant, or a point.
ALTER TABLE runs ADD COLUMN study jsonb NOT NULL DEFAULT '{}';
ALTER TABLE runs ADD COLUMN priority smallint NOT NULL DEFAULT 1;
ALTER TABLE runs ADD COLUMN stopping text NOT NULL DEFAULT ''; -- why its parts are to end early
ALTER TABLE runs ADD COLUMN merger bigint;                     -- the worker that puts its parts together
ALTER TABLE runs ADD COLUMN parts int NOT NULL DEFAULT 0;
CREATE INDEX runs_by_end ON runs (finished_at) WHERE finished_at IS NOT NULL;
CREATE TABLE run_parts (
    run_id   bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
    number   int NOT NULL,
    state    text NOT NULL DEFAULT 'queued' CHECK (state IN ('queued', 'running', 'done')),
    progress double precision NOT NULL DEFAULT 0,
    job_id   bigint,
    worker   bigint,
    result   bytea,
    PRIMARY KEY (run_id, number)
);
CREATE INDEX run_parts_open ON run_parts (state, run_id, number) WHERE state <> 'done';

-- A worker is alive as long as it holds the advisory lock of its id.
CREATE TABLE workers (
    id         bigint PRIMARY KEY,
    host       text NOT NULL,
    version    text NOT NULL,
    slots      int NOT NULL,
    started_at timestamptz NOT NULL DEFAULT now()
);

-- What a creation with an idempotency key made, so that asking again makes
-- nothing more.
CREATE TABLE idempotency_keys (
    user_id    bigint NOT NULL REFERENCES users ON DELETE CASCADE,
    key        text NOT NULL,
    request    text NOT NULL, -- hash
    made       bigint NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (user_id, key)
);
CREATE INDEX idempotency_keys_by_age ON idempotency_keys (created_at);

CREATE TABLE audit (
    id         bigserial PRIMARY KEY,
    at         timestamptz NOT NULL DEFAULT now(),
    who        text NOT NULL,
    token      text NOT NULL DEFAULT '',
    workspace  text NOT NULL DEFAULT '',
    action     text NOT NULL,
    object     text NOT NULL DEFAULT ''
);
CREATE INDEX audit_by_workspace ON audit (workspace, id DESC);

CREATE TABLE settings (
    only_one boolean PRIMARY KEY DEFAULT true CHECK (only_one),
    chosen   jsonb NOT NULL
);

-- +goose Down
DROP TABLE settings, audit, idempotency_keys, workers, run_parts, variants, tokens;
ALTER TABLE runs DROP COLUMN study, DROP COLUMN priority, DROP COLUMN stopping, DROP COLUMN merger, DROP COLUMN parts;
DROP INDEX IF EXISTS runs_by_end;
ALTER TABLE revisions DROP COLUMN findings;
ALTER TABLE models DROP CONSTRAINT models_by_name;
ALTER TABLE models DROP COLUMN workspace_id;
ALTER TABLE models ADD CONSTRAINT models_name_key UNIQUE (name);
ALTER TABLE users ADD COLUMN role text NOT NULL DEFAULT 'viewer' CHECK (role IN ('viewer', 'editor', 'admin'));
UPDATE users SET role = 'admin' WHERE admin;
ALTER TABLE users ALTER COLUMN role DROP DEFAULT;
ALTER TABLE users DROP COLUMN admin, DROP COLUMN password;
DROP TABLE members, workspaces;
