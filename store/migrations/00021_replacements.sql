-- +goose Up
-- Devices that took the place of others. The old one is kept as the way back until somebody releases it.
CREATE TABLE replacements (
	change_id   bigint PRIMARY KEY REFERENCES changes ON DELETE CASCADE,
	old_id      bigint NOT NULL REFERENCES devices ON DELETE CASCADE,
	new_id      bigint NOT NULL REFERENCES devices ON DELETE CASCADE,
	conversion  bigint,
	released_at timestamptz,
	released_by text NOT NULL DEFAULT ''
);
CREATE INDEX ON replacements (old_id);
CREATE INDEX ON replacements (new_id);

-- +goose Down
DROP TABLE replacements;
