-- +goose Up
-- The keys of the certificates that a device shows for its management protocols, by protocol.
ALTER TABLE devices ADD COLUMN pins jsonb NOT NULL DEFAULT '{}';

-- +goose Down
ALTER TABLE devices DROP COLUMN pins;
