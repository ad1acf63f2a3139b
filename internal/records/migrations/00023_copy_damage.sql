-- +goose Up
-- Copies of the library that need something which neither the vault nor a store has whole, as the last check found.
CREATE TABLE copy_damage (
    copy_id text PRIMARY KEY REFERENCES copies (id) ON DELETE CASCADE,
    damage  text NOT NULL,
    at      timestamptz NOT NULL
);

-- +goose Down
DROP TABLE copy_damage;
