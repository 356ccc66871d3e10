-- +goose Up
CREATE TABLE data_keys (
    id        int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    wrapped   bytea NOT NULL, -- with age, to recipient
    recipient text NOT NULL,
    made_at   timestamptz NOT NULL DEFAULT now()
);
ALTER TABLE devices ADD COLUMN groups text[] NOT NULL DEFAULT '{}',
    ADD COLUMN web text NOT NULL DEFAULT '',           -- URL of its HTTP side; '' when it has none
    ADD COLUMN next_backup_at timestamptz,             -- by schedule; null: to be worked out
    ADD COLUMN refused_tries int NOT NULL DEFAULT 0,   -- sign-ins in a row that the device refused
    ADD COLUMN refused_at timestamptz,
    ALTER COLUMN username DROP NOT NULL, ALTER COLUMN password DROP NOT NULL, ALTER COLUMN privileged DROP NOT NULL; -- moved to credentials at the first start
CREATE TABLE credentials (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    device_id  bigint REFERENCES devices ON DELETE CASCADE,
    group_name text NOT NULL DEFAULT '',
    kind       text NOT NULL,
    username   text NOT NULL DEFAULT '',
    secret     bytea NOT NULL, -- sealed
    versions   text NOT NULL DEFAULT '', -- firmware versions it applies to; '': any
    created_by text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    used_at    timestamptz,
    CHECK ((device_id IS NULL) <> (group_name = ''))
);
CREATE INDEX ON credentials (device_id, id);
CREATE INDEX ON credentials (group_name, id);
CREATE TABLE audit (
    id     bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at     timestamptz NOT NULL DEFAULT clock_timestamp(),
    who    text NOT NULL,
    event  text NOT NULL,
    device text NOT NULL DEFAULT '',
    detail text NOT NULL DEFAULT ''
);
CREATE INDEX ON audit (device, id DESC);
CREATE TABLE settings (
    name  text PRIMARY KEY,
    value jsonb NOT NULL
);
ALTER TABLE changes ADD COLUMN kind text NOT NULL DEFAULT 'firmware', ADD COLUMN work jsonb, ADD COLUMN expects_host_key boolean NOT NULL DEFAULT false;
ALTER TABLE backups ADD COLUMN manifest text NOT NULL DEFAULT '', -- sum of the manifest in the backup store; '': of the first versions, still to be taken over
    ADD COLUMN reason text NOT NULL DEFAULT 'demand',
    ADD COLUMN complete boolean NOT NULL DEFAULT true,
    ADD COLUMN model text NOT NULL DEFAULT '',
    ADD COLUMN lacks text[] NOT NULL DEFAULT '{}',
    ADD COLUMN held text NOT NULL DEFAULT '', ADD COLUMN held_by text NOT NULL DEFAULT '',
    ADD COLUMN gone_at timestamptz, ADD COLUMN gone_why text NOT NULL DEFAULT '';
CREATE UNIQUE INDEX one_record_a_bundle ON backups (manifest) WHERE manifest <> '';
CREATE TABLE backup_schedules (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    device_id  bigint UNIQUE REFERENCES devices ON DELETE CASCADE,
    group_name text NOT NULL DEFAULT '', -- '' without a device: every device that has no other
    cron       text NOT NULL,            -- '': no backups by schedule
    spread     bigint NOT NULL,          -- seconds
    keep_days  int NOT NULL,
    keep_count int NOT NULL,
    changed_by text NOT NULL,
    changed_at timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX one_schedule_a_group ON backup_schedules (group_name) WHERE device_id IS NULL;
CREATE TABLE backup_attempts (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    device_id bigint NOT NULL REFERENCES devices ON DELETE CASCADE,
    reason    text NOT NULL,
    began_at  timestamptz NOT NULL DEFAULT now(),
    ended_at  timestamptz,
    outcome   text NOT NULL, -- running, complete, incomplete, failed, missed
    detail    text NOT NULL DEFAULT '',
    backup_id bigint REFERENCES backups
);
CREATE INDEX ON backup_attempts (device_id, id DESC);
INSERT INTO backup_schedules (cron, spread, keep_days, keep_count, changed_by) VALUES ('30 1 * * *', 7200, 90, 30, 'the first start');

-- +goose Down
DROP TABLE backup_attempts, backup_schedules, settings, audit, credentials, data_keys;
DROP INDEX one_record_a_bundle;
ALTER TABLE backups DROP COLUMN manifest, DROP COLUMN reason, DROP COLUMN complete, DROP COLUMN model, DROP COLUMN lacks, DROP COLUMN held, DROP COLUMN held_by, DROP COLUMN gone_at, DROP COLUMN gone_why;
ALTER TABLE changes DROP COLUMN kind, DROP COLUMN work, DROP COLUMN expects_host_key;
ALTER TABLE devices DROP COLUMN groups, DROP COLUMN web, DROP COLUMN next_backup_at, DROP COLUMN refused_tries, DROP COLUMN refused_at;
