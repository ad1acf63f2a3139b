-- +goose Up
-- Where game servers live. machine is what tells the machine of a local host from
-- others, data what the data folder of its service is known by; both are filled in by
-- the first service that works on them.
CREATE TABLE hosts (
    id         bigserial PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    kind       text NOT NULL,
    machine    text NOT NULL DEFAULT '',
    data       text NOT NULL DEFAULT '',
    settings   jsonb NOT NULL DEFAULT '{}',
    created_at timestamptz NOT NULL DEFAULT now()
);
INSERT INTO hosts (name, kind) VALUES ('local', 'local');
ALTER TABLE servers ADD COLUMN host_id bigint REFERENCES hosts;
UPDATE servers SET host_id = (SELECT id FROM hosts WHERE name = 'local');
ALTER TABLE servers ALTER COLUMN host_id SET NOT NULL;
DROP INDEX servers_root;
CREATE UNIQUE INDEX servers_root ON servers (host_id, root) WHERE removed_at IS NULL;

-- +goose Down
DROP INDEX servers_root;
CREATE UNIQUE INDEX servers_root ON servers (root) WHERE removed_at IS NULL;
ALTER TABLE servers DROP COLUMN host_id;
DROP TABLE hosts;
