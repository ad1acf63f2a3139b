-- +goose Up
-- What was in the worlds folder right before the switch: what a proof calls a stray is judged by it, also in a later
-- life of the service.
ALTER TABLE changeovers ADD before jsonb;

-- +goose Down
ALTER TABLE changeovers DROP before;
