-- +goose Up
ALTER TABLE steps ADD COLUMN paused boolean NOT NULL DEFAULT false; -- nobody carried it for a while: how long it took says nothing about the device
ALTER TABLE conversions ADD COLUMN source_sum bytea; -- SHA-256 of the source, by which a change finds what was worked out for it; null: not known
CREATE INDEX conversions_by_aim ON conversions (to_stop, source_sum);

-- +goose Down
DROP INDEX conversions_by_aim;
ALTER TABLE conversions DROP COLUMN source_sum;
ALTER TABLE steps DROP COLUMN paused;
