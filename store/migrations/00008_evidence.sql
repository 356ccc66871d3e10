-- +goose Up
ALTER TABLE changes
    ADD COLUMN definitions jsonb,                          -- of the readings, as they were when the readings before were taken
    ADD COLUMN stands      jsonb,                          -- what ran and what lay in the slots when it was last found ready
    ADD COLUMN hold_asked  boolean NOT NULL DEFAULT false, -- somebody asked it to hold before it asked
    ADD COLUMN paused_by   text,                           -- who asked it to hold
    ADD COLUMN state_since timestamptz NOT NULL DEFAULT now();
UPDATE changes SET state_since = coalesce(ended_at, started_at, approved_at, created_at);
-- A held change that goes on by itself was told apart by its moment only.
UPDATE changes SET state = 'scheduled' WHERE state = 'held' AND waits_until IS NOT NULL;
DROP INDEX one_open_change;
CREATE UNIQUE INDEX one_open_change ON changes (device_id) WHERE state IN ('running', 'holding', 'held', 'asking') OR state = 'scheduled' AND started_at IS NOT NULL;

-- +goose StatementBegin
CREATE FUNCTION change_state_since() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    NEW.state_since := now();
    RETURN NEW;
END $$;
-- +goose StatementEnd
CREATE TRIGGER change_state_since BEFORE UPDATE ON changes FOR EACH ROW WHEN (OLD.state IS DISTINCT FROM NEW.state) EXECUTE FUNCTION change_state_since();

ALTER TABLE devices
    ADD COLUMN looked_at  timestamptz, -- the last try to look at it
    ADD COLUMN look_error text;        -- why that failed; null when it did not
UPDATE devices SET looked_at = portrait_at;

-- Backups that were found damaged are good again once they were proved whole.
ALTER TABLE backups
    ADD COLUMN damaged_at timestamptz,
    ADD COLUMN proved_at  timestamptz;

-- +goose Down
ALTER TABLE backups DROP COLUMN damaged_at, DROP COLUMN proved_at;
ALTER TABLE devices DROP COLUMN looked_at, DROP COLUMN look_error;
DROP TRIGGER change_state_since ON changes;
DROP FUNCTION change_state_since();
DROP INDEX one_open_change;
UPDATE changes SET state = CASE WHEN started_at IS NULL THEN 'approved' ELSE 'held' END WHERE state = 'scheduled';
CREATE UNIQUE INDEX one_open_change ON changes (device_id) WHERE state IN ('running', 'holding', 'held', 'asking');
ALTER TABLE changes DROP COLUMN definitions, DROP COLUMN stands, DROP COLUMN hold_asked, DROP COLUMN paused_by, DROP COLUMN state_since;
