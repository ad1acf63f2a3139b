-- +goose Up
-- The server that a clone is taken from.
ALTER TABLE changeovers ADD COLUMN source_id bigint REFERENCES servers;

-- Which changeover holds a server. One row a server: one changeover at a time,
-- whoever asks, also for a server that another changeover copies from.
CREATE TABLE holds (
    server_id     bigint PRIMARY KEY REFERENCES servers,
    changeover_id bigint NOT NULL REFERENCES changeovers ON DELETE CASCADE
);
INSERT INTO holds (server_id, changeover_id)
    SELECT server_id, id FROM changeovers WHERE state IN ('staging', 'switching', 'proving', 'undoing', 'held');
DROP INDEX changeovers_one_open;

-- What people look for when they join a world.
CREATE TABLE landmarks (
    id         bigserial PRIMARY KEY,
    world_id   bigint NOT NULL REFERENCES worlds ON DELETE CASCADE,
    say        text NOT NULL,
    place      text NOT NULL DEFAULT '',
    created_by text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX landmarks_world ON landmarks (world_id, id);

-- What was found of them after a changeover.
CREATE TABLE sightings (
    changeover_id bigint NOT NULL REFERENCES changeovers ON DELETE CASCADE,
    landmark_id   bigint NOT NULL REFERENCES landmarks ON DELETE CASCADE,
    seen          boolean NOT NULL,
    told_by       text NOT NULL,
    told_at       timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (changeover_id, landmark_id)
);

-- Working folders of changeovers that have been removed for good.
CREATE TABLE tidied (
    changeover_id bigint PRIMARY KEY REFERENCES changeovers ON DELETE CASCADE,
    bytes         bigint NOT NULL,
    tidied_by     text NOT NULL,
    tidied_at     timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
CREATE UNIQUE INDEX changeovers_one_open ON changeovers (server_id)
    WHERE state IN ('staging', 'switching', 'proving', 'undoing', 'held');
DROP TABLE tidied, sightings, landmarks, holds;
ALTER TABLE changeovers DROP COLUMN source_id;
