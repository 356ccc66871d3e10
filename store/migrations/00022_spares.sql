-- +goose Up
-- Units in stock, and media with their places. Where a unit stands follows from the changes that it went through.
CREATE TABLE spares (
	id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	serial      text NOT NULL,
	model       text NOT NULL,
	version     text NOT NULL DEFAULT '',
	licences    text[] NOT NULL DEFAULT '{}',
	place       text NOT NULL DEFAULT '',
	bench_id    bigint REFERENCES devices ON DELETE SET NULL,
	for_id      bigint REFERENCES devices ON DELETE SET NULL,
	backup_id   bigint,
	holds       text NOT NULL DEFAULT '',
	prepare_id  bigint REFERENCES changes ON DELETE SET NULL,
	swap_id     bigint REFERENCES changes ON DELETE SET NULL,
	out_id      bigint REFERENCES changes ON DELETE SET NULL,
	was_id      bigint REFERENCES devices ON DELETE SET NULL,
	shipped_at  timestamptz,
	parcel      text NOT NULL DEFAULT '',
	arrived_at  timestamptz,
	wiped_at    timestamptz,
	wiped       text NOT NULL DEFAULT '',
	retired_at  timestamptz,
	retired     text NOT NULL DEFAULT '',
	created_at  timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX ON spares (serial) WHERE retired_at IS NULL;
CREATE INDEX ON spares (for_id);

-- +goose Down
DROP TABLE spares;
