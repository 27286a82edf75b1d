-- The audit trail names workspaces and tokens by id, says from where and what was refused,
-- and is chained: each entry carries a hash of itself and of the entry before it.
-- +goose Up
ALTER TABLE audit
    ADD COLUMN workspace_id bigint NOT NULL DEFAULT 0, -- 0: of none
    ADD COLUMN token_id     bigint NOT NULL DEFAULT 0, -- 0: a session
    ADD COLUMN address      text   NOT NULL DEFAULT '',
    ADD COLUMN refused      text   NOT NULL DEFAULT '', -- why; empty: it was done
    ADD COLUMN before       bytea  NOT NULL DEFAULT '',
    ADD COLUMN hash         bytea  NOT NULL DEFAULT '';
UPDATE audit SET workspace_id = w.id FROM workspaces w WHERE w.name = audit.workspace AND audit.at >= w.created_at;
DROP INDEX audit_by_workspace;
CREATE INDEX audit_by_workspace ON audit (workspace_id, id DESC);
CREATE INDEX audit_by_token ON audit (token_id, id DESC) WHERE token_id <> 0;

-- +goose StatementBegin
CREATE FUNCTION audit_hash(e audit) RETURNS bytea LANGUAGE sql IMMUTABLE AS $$
    SELECT sha256(e.before || convert_to(jsonb_build_array(e.id, extract(epoch FROM e.at)::text, e.who, e.token, e.token_id,
        e.workspace, e.workspace_id, e.address, e.action, e.object, e.refused)::text, 'UTF8'))
$$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE FUNCTION audit_chain() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM pg_advisory_xact_lock(305413687); -- one entry after the other, by id
    NEW.id := nextval('audit_id_seq');
    NEW.before := coalesce((SELECT hash FROM audit ORDER BY id DESC LIMIT 1), '');
    NEW.hash := audit_hash(NEW);
    RETURN NEW;
END
$$;
-- +goose StatementEnd
-- +goose StatementBegin
DO $$
DECLARE
    e audit;
    last bytea := '';
BEGIN
    FOR e IN SELECT * FROM audit ORDER BY id LOOP
        e.before := last;
        last := audit_hash(e);
        UPDATE audit SET before = e.before, hash = last WHERE id = e.id;
    END LOOP;
END
$$;
-- +goose StatementEnd
ALTER TABLE audit ALTER COLUMN id DROP DEFAULT; -- the trigger numbers them
CREATE TRIGGER audit_chained BEFORE INSERT ON audit FOR EACH ROW EXECUTE FUNCTION audit_chain();

-- +goose Down
DROP TRIGGER audit_chained ON audit;
DROP FUNCTION audit_chain, audit_hash;
ALTER TABLE audit ALTER COLUMN id SET DEFAULT nextval('audit_id_seq');
DROP INDEX audit_by_token, audit_by_workspace;
ALTER TABLE audit DROP COLUMN workspace_id, DROP COLUMN token_id, DROP COLUMN address, DROP COLUMN refused, DROP COLUMN before, DROP COLUMN hash;
CREATE INDEX audit_by_workspace ON audit (workspace, id DESC);
