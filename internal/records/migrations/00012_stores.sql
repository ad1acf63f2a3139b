-- +goose Up
-- Other places that get everything that the vault has. sealed is what a store is signed in with, with a
-- key that is not in the database.
CREATE TABLE stores (
    id            bigserial PRIMARY KEY,
    name          text NOT NULL,
    settings      jsonb NOT NULL,
    sealed        bytea,
    created_by    text NOT NULL,
    created_at    timestamptz NOT NULL DEFAULT now(),
    reached_at    timestamptz,             -- when it last did what was asked
    trouble       text NOT NULL DEFAULT '', -- why it does not, now
    trouble_since timestamptz,
    removed_at    timestamptz
);
CREATE UNIQUE INDEX stores_name ON stores (name) WHERE removed_at IS NULL;

-- What each store has. key is what it was encrypted for, '' for nothing; sum is the BLAKE3-256 of what was sent.
CREATE TABLE store_packs (
    store_id    bigint NOT NULL REFERENCES stores ON DELETE CASCADE,
    pack        text NOT NULL,
    bytes       bigint NOT NULL,
    key         text NOT NULL,
    sum         bytea NOT NULL,
    stored_at   timestamptz NOT NULL,
    checked_at  timestamptz NOT NULL,
    unneeded_at timestamptz,              -- since when the vault has no such pack any more
    PRIMARY KEY (store_id, pack)
);

-- When a pack of the vault itself was last read back.
ALTER TABLE vault_packs ADD COLUMN checked_at timestamptz;

-- What the standing check has found and done.
CREATE TABLE findings (
    id       bigserial PRIMARY KEY,
    at       timestamptz NOT NULL DEFAULT now(),
    store    text NOT NULL,               -- '' for the vault itself
    pack     text NOT NULL,
    what     text NOT NULL,
    mended   boolean NOT NULL
);

-- +goose Down
DROP TABLE findings, store_packs, stores;
ALTER TABLE vault_packs DROP COLUMN checked_at;
