-- +goose Up
-- New devices that call by themselves (RFC 8572): what each is handed when it does, and what it reports.
CREATE TABLE vouchers (
	serial   text PRIMARY KEY,
	voucher  bytea NOT NULL,
	added_by text NOT NULL,
	added_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE calls (
	change_id   bigint PRIMARY KEY REFERENCES changes ON DELETE CASCADE,
	serial      text NOT NULL,
	sealed      bytea NOT NULL,
	called_at   timestamptz,
	reports     jsonb NOT NULL DEFAULT '[]',
	complete_at timestamptz,
	host_key    text NOT NULL DEFAULT ''
);
CREATE INDEX ON calls (serial);

-- +goose Down
DROP TABLE calls;
DROP TABLE vouchers;
