-- +goose Up
-- What was asked all the time while a change ran, and how it answered.
ALTER TABLE changes ADD COLUMN probes jsonb;

-- +goose Down
ALTER TABLE changes DROP COLUMN probes;
