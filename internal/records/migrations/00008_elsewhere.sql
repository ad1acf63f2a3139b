-- +goose Up
-- Hosts that are accounts on other machines: settings is the account, without what it is
-- signed in with; that is sealed with a key that is not in the database. found is what a
-- check has found there. A server says how it is controlled, and by what other name the game
-- itself knows its folder.
ALTER TABLE hosts ADD COLUMN sealed bytea;
ALTER TABLE hosts ADD COLUMN found jsonb;
ALTER TABLE hosts ADD COLUMN removed_at timestamptz;
ALTER TABLE servers ADD COLUMN means jsonb NOT NULL DEFAULT '{}';
ALTER TABLE servers ADD COLUMN game_root text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE servers DROP COLUMN game_root;
ALTER TABLE servers DROP COLUMN means;
ALTER TABLE hosts DROP COLUMN removed_at;
ALTER TABLE hosts DROP COLUMN found;
ALTER TABLE hosts DROP COLUMN sealed;
