-- A share link is a token that reads what lies at some paths of its workspace, and nothing else.
-- +goose Up
ALTER TABLE tokens ADD COLUMN paths text[] NOT NULL DEFAULT '{}'; -- empty: whatever the role allows

-- +goose Down
DELETE FROM tokens WHERE paths <> '{}';
ALTER TABLE tokens DROP COLUMN paths;
