-- +goose Up
CREATE TABLE users (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name          text NOT NULL UNIQUE,
    password_hash text NOT NULL,
    created_at    timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE sessions (
    token_hash bytea PRIMARY KEY, -- SHA-256 of the token; the token itself is nowhere
    user_id    bigint NOT NULL REFERENCES users ON DELETE CASCADE,
    created_at timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL
);
CREATE TABLE idempotency (
    user_id    bigint NOT NULL REFERENCES users ON DELETE CASCADE,
    key        text NOT NULL,
    request    text NOT NULL, -- keyed hash over path and body
    created_id text,          -- what the first call made; null while it runs
    created_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (user_id, key)
);
CREATE TABLE catalogue_files (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name      text NOT NULL,
    content   text NOT NULL,
    sha256    text NOT NULL,
    loaded_by text NOT NULL,
    loaded_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON catalogue_files (name, id DESC);
CREATE TABLE images (
    sha256   text PRIMARY KEY,
    file     text NOT NULL,
    size     bigint NOT NULL,
    family   text NOT NULL,
    version  text NOT NULL,
    models   text[] NOT NULL,
    added_by text NOT NULL,
    added_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE devices (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name        text NOT NULL UNIQUE,
    site        text NOT NULL,
    address     text NOT NULL,
    dialect     text NOT NULL,
    username    text NOT NULL,
    password    bytea NOT NULL, -- sealed
    privileged  bytea NOT NULL, -- sealed
    host_key    text NOT NULL DEFAULT '',
    transfer    text NOT NULL,
    created_at  timestamptz NOT NULL DEFAULT now(),
    portrait    jsonb,
    portrait_at timestamptz
);
CREATE TABLE leases (
    device_id  bigint PRIMARY KEY REFERENCES devices ON DELETE CASCADE,
    holder     text NOT NULL,
    fence      bigint NOT NULL,
    expires_at timestamptz NOT NULL
);
CREATE TABLE changes (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    device_id    bigint NOT NULL REFERENCES devices,
    state        text NOT NULL,
    from_version text NOT NULL,
    to_version   text NOT NULL,
    path         jsonb NOT NULL,
    created_by   text NOT NULL,
    created_at   timestamptz NOT NULL DEFAULT now(),
    approved_by  text,
    approved_at  timestamptz,
    started_at   timestamptz,
    ended_at     timestamptz,
    readings     jsonb,
    verdict      jsonb,
    failure      text
);
CREATE INDEX ON changes (device_id, id DESC);
-- One open change a device, whatever two people do at once.
CREATE UNIQUE INDEX one_open_change ON changes (device_id) WHERE state IN ('running', 'holding', 'held');
CREATE TABLE steps (
    change_id   bigint NOT NULL REFERENCES changes ON DELETE CASCADE,
    number      int NOT NULL,
    plan        jsonb NOT NULL,
    state       text NOT NULL DEFAULT 'waiting',
    started_at  timestamptz,
    ended_at    timestamptz,
    attempts    int NOT NULL DEFAULT 0,
    fraction    double precision NOT NULL DEFAULT 0,
    note        text NOT NULL DEFAULT '', -- what is happening now
    intent      jsonb,                    -- what the device looked like when the intent was recorded
    outcome     text NOT NULL DEFAULT '', -- what was confirmed, or why it failed
    PRIMARY KEY (change_id, number)
);
CREATE TABLE journal (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    change_id bigint NOT NULL REFERENCES changes ON DELETE CASCADE,
    step      int NOT NULL,   -- 0: about the change as a whole
    fence     bigint NOT NULL, -- 0: written by a person's request
    at        timestamptz NOT NULL DEFAULT clock_timestamp(),
    event     text NOT NULL,
    detail    text NOT NULL
);
CREATE INDEX ON journal (change_id, id);
CREATE TABLE backups (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    device_id bigint NOT NULL REFERENCES devices,
    change_id bigint REFERENCES changes,
    hop       int,
    version   text NOT NULL,
    file      text NOT NULL,
    sha256    text NOT NULL,
    size      bigint NOT NULL,
    taken_at  timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON backups (device_id, id DESC);

-- +goose Down
DROP TABLE backups, journal, steps, changes, leases, devices, images, catalogue_files, idempotency, sessions, users;
