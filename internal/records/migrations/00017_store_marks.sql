-- +goose Up
-- What the mark of each store says, which is compared before anything is written or removed there. NULL: a store of
-- a build before marks had an id; it gets one the next time it is reached, where its mark names this vault.
-- writes is false for what was added to recover from: it is only read until somebody takes it over.
ALTER TABLE stores
    ADD mark         jsonb,
    ADD writes       boolean NOT NULL DEFAULT true,
    ADD surveyed_at  timestamptz,                -- when it was last listed to its end
    ADD confirmed_at timestamptz,                -- since when its place is meant, although it would be refused
    ADD confirmed_by text NOT NULL DEFAULT '',
    ADD asks         text NOT NULL DEFAULT '',   -- why packs are removed only when a person confirms that
    ADD asks_since   timestamptz,
    ADD trouble_next text NOT NULL DEFAULT '';   -- what helps against its trouble

-- Only packs that this vault once listed, and that this service wrote there, took over or recovered, are ever
-- removed from a store. What it has now and the vault does not list may be of another service.
ALTER TABLE store_packs
    ADD listed  boolean NOT NULL DEFAULT false,
    ADD ours    boolean NOT NULL DEFAULT false,
    ADD trouble text NOT NULL DEFAULT '';        -- why it was not read when that was last tried
UPDATE store_packs s SET listed = true, ours = true
    WHERE EXISTS (SELECT FROM vault_packs p WHERE p.id = s.pack);
UPDATE store_packs SET unneeded_at = NULL WHERE NOT ours;

-- Packs that a store did not take, each with when it is tried again.
CREATE TABLE store_waits (
    store_id bigint NOT NULL REFERENCES stores ON DELETE CASCADE,
    pack     text NOT NULL,
    tries    int NOT NULL,
    again_at timestamptz NOT NULL,
    trouble  text NOT NULL,
    PRIMARY KEY (store_id, pack)
);

-- +goose Down
DROP TABLE store_waits;
ALTER TABLE store_packs DROP listed, DROP ours, DROP trouble;
ALTER TABLE stores DROP mark, DROP writes, DROP surveyed_at, DROP confirmed_at, DROP confirmed_by, DROP asks,
    DROP asks_since, DROP trouble_next;
