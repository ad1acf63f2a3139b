-- +goose Up
-- Whom the service tells of what needs a person. sealed is what a target is signed in or signed with, with a
-- key that is not in the database.
CREATE TABLE notice_targets (
    id         bigserial PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    settings   jsonb NOT NULL,
    sealed     bytea,
    created_by text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    told_at    timestamptz,               -- when it was last told something
    trouble    text NOT NULL DEFAULT ''   -- why the last try failed
);

-- What needs a person, or did. Each is told once, and again when it is well.
CREATE TABLE alerts (
    id       bigserial PRIMARY KEY,
    kind     text NOT NULL,
    of       text NOT NULL,
    alert    jsonb NOT NULL,
    begun_at timestamptz NOT NULL DEFAULT now(),
    ended_at timestamptz
);
CREATE UNIQUE INDEX alerts_open ON alerts (kind, of) WHERE ended_at IS NULL;

-- +goose Down
DROP TABLE alerts, notice_targets;
