-- +goose Up
-- The clock that rules count by: it goes as the machine's does, but not by leaps.
CREATE TABLE counted (
    one boolean PRIMARY KEY DEFAULT true CHECK (one),
    at  timestamptz NOT NULL
);

-- Rules of backups. due_at is when one is due next by the clock; NULL where it is due while
-- somebody plays.
CREATE TABLE rules (
    id         bigserial PRIMARY KEY,
    server_id  bigint NOT NULL REFERENCES servers,
    name       text NOT NULL,
    rule       jsonb NOT NULL,
    due_at     timestamptz,
    begun_at   timestamptz,              -- when one was begun last
    paused_at  timestamptz,
    paused_by  text NOT NULL DEFAULT '',
    created_by text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    removed_at timestamptz
);
CREATE UNIQUE INDEX rules_name ON rules (server_id, name) WHERE removed_at IS NULL;

-- A backup of a server: copies of its worlds, and a copy of what the server was, which no world
-- has (record). server_id is NULL for one that was found in a store, of a server that is not known.
CREATE TABLE backups (
    id            bigserial PRIMARY KEY,
    server_id     bigint REFERENCES servers,
    server        text NOT NULL,
    rule_id       bigint REFERENCES rules,
    changeover_id bigint UNIQUE REFERENCES changeovers ON DELETE SET NULL,
    state         text NOT NULL CHECK (state IN ('running', 'done', 'failed', 'gave-way')),
    due_at        timestamptz,            -- by which time of its rule; NULL: by hand
    begun_at      timestamptz NOT NULL DEFAULT now(),
    ended_at      timestamptz,
    counted_at    timestamptz NOT NULL,   -- begun, by the clock that rules count by
    created_by    text NOT NULL,
    note          text NOT NULL DEFAULT '',
    pinned        boolean NOT NULL DEFAULT false,
    record        text,                   -- in the vault
    about         jsonb NOT NULL DEFAULT '{}',
    bytes         bigint NOT NULL DEFAULT 0,
    written       bigint NOT NULL DEFAULT 0, -- by this server's backups so far, in bytes
    read_at       timestamptz,            -- when all of it was last read back
    damage        text NOT NULL DEFAULT '',
    failure       jsonb,
    aside_at      timestamptz,
    aside_by      text NOT NULL DEFAULT '',
    gone_at       timestamptz
);
CREATE INDEX backups_server ON backups (server_id, id);
CREATE INDEX backups_rule ON backups (rule_id, id);

CREATE TABLE backup_worlds (
    backup_id bigint NOT NULL REFERENCES backups ON DELETE CASCADE,
    world     text NOT NULL,              -- its name on disk
    copy_id   text NOT NULL REFERENCES copies,
    as_before boolean NOT NULL,           -- it is the copy that the backup before has
    wholeness text NOT NULL,
    moved     jsonb NOT NULL DEFAULT '[]',
    read      bigint NOT NULL,            -- bytes that had to be read
    PRIMARY KEY (backup_id, world)
);
CREATE INDEX backup_worlds_copy ON backup_worlds (copy_id);

-- The files of a server's world as its last backup found them: sizes and times, as packed JSON. What has
-- not changed since is not read again, but for once in a while.
CREATE TABLE known_files (
    server_id bigint NOT NULL REFERENCES servers,
    world     text NOT NULL,
    copy_id   text NOT NULL,
    whole_at  timestamptz NOT NULL,       -- when all of them were read last
    files     bytea NOT NULL,
    PRIMARY KEY (server_id, world)
);

-- What is set for the service as a whole.
CREATE TABLE settings (
    name  text PRIMARY KEY,
    value jsonb NOT NULL
);

-- +goose Down
DROP TABLE settings, known_files, backup_worlds, backups, rules, counted;
