-- +goose Up
-- Where the vault's entries stand: nothing that its packs do not say themselves.
CREATE TABLE vault_packs (
    id      text PRIMARY KEY,
    bytes   bigint NOT NULL,
    made_at timestamptz NOT NULL
);
CREATE TABLE vault_entries (
    kind   smallint NOT NULL,
    name   bytea NOT NULL,
    pack   text NOT NULL REFERENCES vault_packs,
    start  bigint NOT NULL,
    stored bigint NOT NULL,
    coding smallint NOT NULL,
    size   bigint NOT NULL,
    PRIMARY KEY (kind, name)
);
CREATE INDEX vault_entries_pack ON vault_entries (pack);

-- What people say of worlds and copies.
ALTER TABLE worlds ADD COLUMN note text NOT NULL DEFAULT '';
ALTER TABLE worlds ADD COLUMN tags jsonb NOT NULL DEFAULT '[]';
ALTER TABLE copies DROP CONSTRAINT copies_kind_check;
ALTER TABLE copies ADD CONSTRAINT copies_kind_check CHECK (kind IN ('arrival', 'backup', 'safety', 'edited'));
ALTER TABLE copies ADD COLUMN note text NOT NULL DEFAULT '';
ALTER TABLE copies ADD COLUMN pinned boolean NOT NULL DEFAULT false;

-- A copy that is set aside is in no list but its own, and goes when its time has come;
-- its record stays for the history of changeovers.
ALTER TABLE copies ADD COLUMN aside_at timestamptz;
ALTER TABLE copies ADD COLUMN aside_by text NOT NULL DEFAULT '';
ALTER TABLE copies ADD COLUMN gone_at timestamptz;

-- Where a copy came from: the copy it was made of, and the server it was on.
ALTER TABLE copies ADD COLUMN server_id bigint REFERENCES servers;
ALTER TABLE copies ADD COLUMN changeover_id bigint REFERENCES changeovers ON DELETE SET NULL;
ALTER TABLE copies ADD COLUMN made_of text REFERENCES copies;

-- Worlds of which a person has said that they are not the same.
CREATE TABLE apart (
    world_id bigint NOT NULL REFERENCES worlds ON DELETE CASCADE,
    other_id bigint NOT NULL REFERENCES worlds ON DELETE CASCADE,
    told_by  text NOT NULL,
    told_at  timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (world_id, other_id),
    CHECK (world_id < other_id)
);

-- +goose Down
DROP TABLE apart;
ALTER TABLE copies DROP CONSTRAINT copies_kind_check;
UPDATE copies SET kind = 'arrival' WHERE kind = 'edited';
ALTER TABLE copies ADD CONSTRAINT copies_kind_check CHECK (kind IN ('arrival', 'backup', 'safety'));
ALTER TABLE copies DROP COLUMN made_of, DROP COLUMN changeover_id, DROP COLUMN server_id, DROP COLUMN gone_at,
    DROP COLUMN aside_by, DROP COLUMN aside_at, DROP COLUMN pinned, DROP COLUMN note;
ALTER TABLE worlds DROP COLUMN tags, DROP COLUMN note;
DROP TABLE vault_entries, vault_packs;
