-- +goose Up
-- What a person has been asked to do at a server that only people can start and stop, and what was
-- seen of it then: whether it was done is known by what has changed since, also in another life of
-- the service.
ALTER TABLE servers ADD COLUMN asked jsonb;

-- +goose Down
ALTER TABLE servers DROP COLUMN asked;
