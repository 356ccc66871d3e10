-- +goose Up
-- Media that are kept somewhere to bring a device back. Where one stands follows from the change that makes it, and from the last look at it.
CREATE TABLE media (
	id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	label       text NOT NULL UNIQUE,
	kind        text NOT NULL,
	device_id   bigint REFERENCES devices ON DELETE SET NULL,
	device      text NOT NULL,                      -- its name when the medium was made
	model       text NOT NULL DEFAULT '',
	version     text NOT NULL DEFAULT '',
	place       text NOT NULL DEFAULT '',
	change_id   bigint REFERENCES changes ON DELETE SET NULL,
	backup_id   bigint,
	holds       text NOT NULL DEFAULT '',           -- SHA-256 of the configuration on it
	files       jsonb NOT NULL DEFAULT '[]',
	written_at  timestamptz,
	checked_at  timestamptz,
	problems    text[] NOT NULL DEFAULT '{}',
	retired_at  timestamptz,
	retired     text NOT NULL DEFAULT '',
	created_at  timestamptz NOT NULL DEFAULT now(),
	created_by  text NOT NULL
);
CREATE INDEX media_device ON media (device_id);

-- +goose Down
DROP TABLE media;
