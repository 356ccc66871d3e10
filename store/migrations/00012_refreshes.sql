-- +goose Up
-- A look at a device that somebody asked for, as a job of its own: the call that asks for it does not wait for the device.
CREATE TABLE refreshes (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    device_id bigint NOT NULL REFERENCES devices ON DELETE CASCADE,
    asked_by text NOT NULL,
    asked_at timestamptz NOT NULL DEFAULT now(),
    state text NOT NULL DEFAULT 'waiting',
    started_at timestamptz,
    ended_at timestamptz,
    touched_at timestamptz NOT NULL DEFAULT now(),
    doing text NOT NULL DEFAULT '',
    fraction double precision NOT NULL DEFAULT 0,
    problem text NOT NULL DEFAULT '',
    by_device boolean NOT NULL DEFAULT false
);
CREATE INDEX ON refreshes (device_id, id DESC);
CREATE UNIQUE INDEX one_open_refresh ON refreshes (device_id) WHERE ended_at IS NULL;

-- +goose Down
DROP TABLE refreshes;
