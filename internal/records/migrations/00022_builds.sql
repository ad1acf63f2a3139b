-- +goose Up
-- Which builds may use this database: the oldest one that may, and the one that changed it last.
CREATE TABLE builds (
    one     boolean PRIMARY KEY DEFAULT true CHECK (one),
    oldest  text NOT NULL,
    changed text NOT NULL
);

-- +goose Down
DROP TABLE builds;
