-- +goose Up
-- Which world a running server is meant to have open, where a person has said so since the last changeover, and which
-- other one was seen there.
CREATE TABLE running_worlds (
    server_id   bigint PRIMARY KEY REFERENCES servers (id),
    said        jsonb,
    other       jsonb,
    other_since timestamptz
);

-- +goose Down
DROP TABLE running_worlds;
