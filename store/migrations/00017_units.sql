-- +goose Up
-- Of a device with several units, and of one that others follow: what its change was drafted from.
ALTER TABLE changes ADD COLUMN units jsonb, ADD COLUMN children jsonb;

-- +goose Down
ALTER TABLE changes DROP COLUMN units, DROP COLUMN children;
