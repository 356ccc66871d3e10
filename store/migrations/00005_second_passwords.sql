-- +goose Up
ALTER TABLE devices ADD COLUMN refused_raises int NOT NULL DEFAULT 0; -- second passwords in a row that the device refused

-- +goose Down
ALTER TABLE devices DROP COLUMN refused_raises;
