-- +goose Up
ALTER TABLE catalogue_files ADD COLUMN restored boolean NOT NULL DEFAULT false; -- it came from going back
ALTER TABLE images ADD COLUMN part text NOT NULL DEFAULT '', ADD COLUMN signed boolean NOT NULL DEFAULT false;
CREATE TABLE uploads (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    file       text NOT NULL,
    size       bigint NOT NULL,
    signature  bytea NOT NULL DEFAULT '',
    started_by text NOT NULL,
    started_at timestamptz NOT NULL DEFAULT now(),
    touched_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (started_by, file, size)
);
CREATE TABLE sites (
    name          text PRIMARY KEY,
    url           text NOT NULL,
    username      text NOT NULL,
    password      bytea NOT NULL, -- sealed
    maker         text NOT NULL,
    contract_ends text NOT NULL DEFAULT '',
    trouble       text NOT NULL DEFAULT ''
);
CREATE TABLE fetches (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site       text NOT NULL REFERENCES sites ON DELETE CASCADE,
    file       text NOT NULL,
    sha256     text NOT NULL,
    size       bigint NOT NULL,
    done       bigint NOT NULL DEFAULT 0,
    rate       double precision NOT NULL DEFAULT 0, -- bytes a second of late
    state      text NOT NULL DEFAULT 'waiting',
    attempts   int NOT NULL DEFAULT 0,
    note       text NOT NULL DEFAULT '',
    started_by text NOT NULL,
    started_at timestamptz NOT NULL DEFAULT now(),
    ended_at   timestamptz,
    holder     text NOT NULL DEFAULT '', -- the process that runs it
    beat       timestamptz NOT NULL DEFAULT now()
);
-- One download of a file at a time, whoever asks.
CREATE UNIQUE INDEX one_open_fetch ON fetches (sha256) WHERE state IN ('waiting', 'running', 'held');
CREATE TABLE advisories (
    id          text PRIMARY KEY,
    document    jsonb NOT NULL,
    imported_by text NOT NULL,
    imported_at timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE advisories, fetches, sites, uploads;
ALTER TABLE images DROP COLUMN part, DROP COLUMN signed;
ALTER TABLE catalogue_files DROP COLUMN restored;
