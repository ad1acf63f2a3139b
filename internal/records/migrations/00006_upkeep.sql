-- +goose Up
-- What the service does by itself now and then, and when it did it last: a service that is
-- restarted each day must not begin to wait anew each day.
CREATE TABLE upkeep (
    task    text PRIMARY KEY,
    done_at timestamptz NOT NULL
);

-- +goose Down
DROP TABLE upkeep;
