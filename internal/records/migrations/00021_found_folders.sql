-- +goose Up
-- Working folders on servers whose names are numbers alone, as builds before named them: those that hold what their
-- changeover put there. They are looked at once, when a server is first seen by a build that names them otherwise.
CREATE TABLE claimed_folders (
    server_id     bigint NOT NULL REFERENCES servers (id) ON DELETE CASCADE,
    folder        text NOT NULL,
    changeover_id bigint NOT NULL REFERENCES changeovers (id) ON DELETE CASCADE,
    PRIMARY KEY (server_id, folder)
);
CREATE TABLE claimed_servers (
    server_id  bigint PRIMARY KEY REFERENCES servers (id) ON DELETE CASCADE,
    claimed_at timestamptz NOT NULL
);

-- Working folders on servers of which no changeover is on record: the records are older than the files.
CREATE TABLE found_folders (
    server_id bigint NOT NULL REFERENCES servers (id) ON DELETE CASCADE,
    folder    text NOT NULL,
    found_at  timestamptz NOT NULL,
    last      bigint NOT NULL,   -- the highest number of a changeover on record when it was found
    kept_by   text,              -- who said that it stays as it is
    kept_at   timestamptz,
    PRIMARY KEY (server_id, folder)
);

-- +goose Down
DROP TABLE found_folders, claimed_folders, claimed_servers;
