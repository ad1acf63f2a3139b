-- +goose Up
-- When what is removed for its age was seen first, by the clock that rules count by: the machine's may leap.
CREATE TABLE first_seen (
    what text PRIMARY KEY,
    at   timestamptz NOT NULL
);

-- +goose Down
DROP TABLE first_seen;
