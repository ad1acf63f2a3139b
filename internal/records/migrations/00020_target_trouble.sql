-- +goose Up
-- Since when telling a target has failed; null: the last try succeeded, or there was none.
ALTER TABLE notice_targets ADD COLUMN trouble_since timestamptz;
UPDATE notice_targets SET trouble_since = now() WHERE trouble <> '';

-- +goose Down
ALTER TABLE notice_targets DROP COLUMN trouble_since;
