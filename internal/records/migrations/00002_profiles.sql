-- +goose Up
-- The operating system that a server is made for; '' is linux.
ALTER TABLE servers ADD COLUMN system text NOT NULL DEFAULT '';

-- Game profiles that users have uploaded. Every version is kept; the one with the
-- greatest number that has not been withdrawn counts.
CREATE TABLE profiles (
    id           bigserial PRIMARY KEY,
    game         text NOT NULL,
    version      integer NOT NULL,
    document     text NOT NULL,
    created_by   text NOT NULL,
    created_at   timestamptz NOT NULL DEFAULT now(),
    withdrawn_at timestamptz,
    UNIQUE (game, version)
);
