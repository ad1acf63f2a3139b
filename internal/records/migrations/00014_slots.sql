-- +goose Up
-- Why a rule's last try to have the provider make a backup of its own failed, and when; '' it did not.
ALTER TABLE rules ADD slots_trouble text NOT NULL DEFAULT '', ADD slots_at timestamptz;

-- +goose Down
ALTER TABLE rules DROP slots_trouble, DROP slots_at;
