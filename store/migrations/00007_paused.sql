-- How long a step took says nothing about the device when nobody carried it for a while.
-- +goose Up
ALTER TABLE steps ADD COLUMN paused boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE steps DROP COLUMN paused;
