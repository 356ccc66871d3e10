-- +goose Up
ALTER TABLE changes
    ADD COLUMN back        jsonb NOT NULL DEFAULT '[]',      -- by hop: the declared way back
    ADD COLUMN back_policy text  NOT NULL DEFAULT 'offered', -- or automatic
    ADD COLUMN going_back  int,                              -- the hop whose way back is being taken
    ADD COLUMN return_why  text,                             -- why it is taken
    ADD COLUMN planned     jsonb NOT NULL DEFAULT '{}',      -- what the device was when the change was drafted
    ADD COLUMN window_from timestamptz,
    ADD COLUMN window_to   timestamptz,
    ADD COLUMN restart_from timestamptz,                     -- the point of no return is not passed before
    ADD COLUMN waits_until timestamptz,                      -- a held change goes on by itself then
    ADD COLUMN wish        jsonb,                            -- what was asked for, to draft it anew; without keys
    ADD COLUMN question    jsonb,                            -- what an asking change waits for
    ADD COLUMN accepted    jsonb NOT NULL DEFAULT '[]',      -- warnings: which, by whom, why
    ADD COLUMN checks      jsonb,                            -- the last look at whether it is ready
    ADD COLUMN checked_at  timestamptz;
DROP INDEX one_open_change;
CREATE UNIQUE INDEX one_open_change ON changes (device_id) WHERE state IN ('running', 'holding', 'held', 'asking');
ALTER TABLE devices
    ADD COLUMN reach jsonb NOT NULL DEFAULT '{}'; -- a jump host, a console line, a module of another device

CREATE TABLE evidence (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    change_id  bigint NOT NULL REFERENCES changes,
    step       int NOT NULL,
    name       text NOT NULL,
    media_type text NOT NULL,
    content    bytea NOT NULL, -- sealed
    size       bigint NOT NULL,
    added_by   text NOT NULL,
    added_at   timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON evidence (change_id, id);

-- What was seen on console lines, piece by piece, with secrets masked.
CREATE TABLE console_log (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    device_id bigint NOT NULL REFERENCES devices,
    change_id bigint REFERENCES changes,
    at        timestamptz NOT NULL DEFAULT clock_timestamp(),
    text      text NOT NULL
);
CREATE INDEX ON console_log (device_id, id);

-- Readings taken at any time, to compare with later.
CREATE TABLE reading_sets (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    device_id bigint NOT NULL REFERENCES devices,
    change_id bigint REFERENCES changes,
    at        timestamptz NOT NULL DEFAULT now(),
    version   text NOT NULL,
    readings  jsonb NOT NULL,
    taken_by  text NOT NULL
);
CREATE INDEX ON reading_sets (device_id, id DESC);

-- Readings and expectations that a company adds for a group of devices.
CREATE TABLE own_readings (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    group_name text NOT NULL, -- '' is every device
    dialect    text NOT NULL,
    name       text NOT NULL,
    definition text NOT NULL, -- one reading, YAML
    added_by   text NOT NULL,
    added_at   timestamptz NOT NULL DEFAULT now(),
    UNIQUE (group_name, dialect, name)
);

-- The journal is written once and never touched again.
-- +goose StatementBegin
CREATE FUNCTION journal_is_final() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'the journal is only added to';
END $$;
-- +goose StatementEnd
CREATE TRIGGER journal_is_final BEFORE UPDATE OR DELETE ON journal FOR EACH ROW EXECUTE FUNCTION journal_is_final();

-- +goose Down
DROP TRIGGER journal_is_final ON journal;
DROP FUNCTION journal_is_final;
DROP TABLE own_readings, reading_sets, console_log, evidence;
ALTER TABLE devices DROP COLUMN reach;
DROP INDEX one_open_change;
CREATE UNIQUE INDEX one_open_change ON changes (device_id) WHERE state IN ('running', 'holding', 'held');
ALTER TABLE changes DROP COLUMN back, DROP COLUMN back_policy, DROP COLUMN going_back, DROP COLUMN return_why, DROP COLUMN planned, DROP COLUMN window_from,
    DROP COLUMN window_to, DROP COLUMN restart_from, DROP COLUMN waits_until, DROP COLUMN wish, DROP COLUMN question, DROP COLUMN accepted, DROP COLUMN checks, DROP COLUMN checked_at;
