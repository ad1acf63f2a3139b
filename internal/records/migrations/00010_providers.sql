-- +goose Up
-- A host may have an interface of its provider's own: where it is, by which description it is spoken to,
-- and for whom. What it is signed in with is sealed beside the account's.
ALTER TABLE hosts ADD COLUMN provider jsonb;

-- +goose Down
ALTER TABLE hosts DROP COLUMN provider;
