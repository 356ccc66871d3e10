-- +goose Up
-- Devices that depend on each other, as people declared them.
CREATE TABLE ensembles (
	id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	name text NOT NULL UNIQUE,
	kind text NOT NULL,
	created_by text NOT NULL,
	created_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE ensemble_members (
	ensemble_id bigint NOT NULL REFERENCES ensembles ON DELETE CASCADE,
	number int NOT NULL,
	device_id bigint NOT NULL CONSTRAINT one_ensemble UNIQUE REFERENCES devices ON DELETE CASCADE,
	PRIMARY KEY (ensemble_id, number)
);
-- What a change of an ensemble was drafted from, and how it goes back from where it came to rest. Each member has a path and ways back of its own.
ALTER TABLE changes ADD COLUMN ensemble jsonb, ADD COLUMN half_way jsonb;
ALTER TABLE members ADD COLUMN path jsonb, ADD COLUMN back jsonb;

-- +goose Down
ALTER TABLE members DROP COLUMN path, DROP COLUMN back;
ALTER TABLE changes DROP COLUMN ensemble, DROP COLUMN half_way;
DROP TABLE ensemble_members;
DROP TABLE ensembles;
