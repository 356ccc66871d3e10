-- +goose Up
-- What people say about how a device is dealt with is one document: a new setting needs no new column.
ALTER TABLE devices ADD COLUMN settings jsonb NOT NULL DEFAULT '{}';
UPDATE devices SET settings = jsonb_build_object('web', web, 'transfer', transfer, 'reach', reach);
ALTER TABLE devices DROP COLUMN web, DROP COLUMN transfer, DROP COLUMN reach;

-- +goose Down
ALTER TABLE devices
    ADD COLUMN web text NOT NULL DEFAULT '',
    ADD COLUMN transfer text NOT NULL DEFAULT 'sftp',
    ADD COLUMN reach jsonb NOT NULL DEFAULT '{}';
UPDATE devices SET web = settings->>'web', transfer = settings->>'transfer', reach = settings->'reach';
ALTER TABLE devices DROP COLUMN settings;
