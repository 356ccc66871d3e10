-- +goose Up
-- Configurations with placeholders. What they hold is sealed: people write shared keys into them.
CREATE TABLE templates (
	name       text PRIMARY KEY,
	title      text NOT NULL DEFAULT '',
	sealed     bytea NOT NULL,
	updated_by text NOT NULL,
	updated_at timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE templates;
