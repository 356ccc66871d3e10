-- +goose Up
-- The credential that was refused last, of those counted in refused_tries: the next sign-in begins with the one after it.
ALTER TABLE devices ADD refused_last bigint NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE devices DROP COLUMN refused_last;
