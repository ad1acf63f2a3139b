-- +goose Up
CREATE TABLE users (
    id         bigserial PRIMARY KEY,
    name       text NOT NULL,
    password   text NOT NULL,              -- argon2id, encoded
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX users_name ON users (lower(name));

-- Sessions of the console and tokens of the command line. Only a hash of the
-- secret is kept.
CREATE TABLE keys (
    hash       bytea PRIMARY KEY,
    user_id    bigint NOT NULL REFERENCES users ON DELETE CASCADE,
    kind       text NOT NULL CHECK (kind IN ('session', 'token')),
    label      text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL
);

CREATE TABLE servers (
    id               bigserial PRIMARY KEY,
    name             text NOT NULL,
    game             text NOT NULL,
    kind             text NOT NULL,
    root             text NOT NULL,        -- absolute path on the host
    command          jsonb NOT NULL,
    env              jsonb NOT NULL DEFAULT '{}',
    declared_version text NOT NULL DEFAULT '',
    wanted           text NOT NULL DEFAULT 'stopped' CHECK (wanted IN ('running', 'stopped')),
    last_start_ms    bigint NOT NULL DEFAULT -1,
    last_stop_ms     bigint NOT NULL DEFAULT -1,
    created_at       timestamptz NOT NULL DEFAULT now(),
    removed_at       timestamptz           -- kept for the history of its changeovers
);
CREATE UNIQUE INDEX servers_name ON servers (name) WHERE removed_at IS NULL;
CREATE UNIQUE INDEX servers_root ON servers (root) WHERE removed_at IS NULL;

CREATE TABLE worlds (
    id         bigserial PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    game       text NOT NULL,
    title      text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE copies (
    id         text PRIMARY KEY,           -- content address in the vault
    world_id   bigint NOT NULL REFERENCES worlds,
    kind       text NOT NULL CHECK (kind IN ('arrival', 'backup', 'safety')),
    facts      jsonb NOT NULL,             -- what the world said of itself
    bytes      bigint NOT NULL,
    files      bigint NOT NULL,
    source     text NOT NULL,
    created_by text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE changeovers (
    id         bigserial PRIMARY KEY,
    server_id  bigint NOT NULL REFERENCES servers,
    kind       text NOT NULL,
    state      text NOT NULL,
    plan       jsonb NOT NULL,
    sheet      jsonb,
    copy_id    text REFERENCES copies,
    undoes     bigint REFERENCES changeovers,
    proof      jsonb,
    failure    jsonb,
    created_by text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    started_at timestamptz,
    ended_at   timestamptz
);
-- One changeover at a time for a server, whoever asks.
CREATE UNIQUE INDEX changeovers_one_open ON changeovers (server_id)
    WHERE state IN ('staging', 'switching', 'proving', 'undoing', 'held');
CREATE INDEX changeovers_server ON changeovers (server_id, id);

CREATE TABLE steps (
    changeover_id bigint NOT NULL REFERENCES changeovers ON DELETE CASCADE,
    n             integer NOT NULL,
    kind          text NOT NULL,
    state         text NOT NULL CHECK (state IN ('planned', 'intended', 'done', 'undone')),
    detail        jsonb,
    intended_at   timestamptz,
    done_at       timestamptz,
    undone_at     timestamptz,
    PRIMARY KEY (changeover_id, n)
);

-- +goose Down
DROP TABLE steps, changeovers, copies, worlds, servers, keys, users;
