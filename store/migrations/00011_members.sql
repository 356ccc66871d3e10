-- +goose Up
-- A change concerns members; today one. "One open change a device" and the leases are per member.
CREATE TABLE members (
    change_id bigint NOT NULL REFERENCES changes ON DELETE CASCADE,
    number    int NOT NULL,                -- from 1
    device_id bigint NOT NULL REFERENCES devices,
    role      text NOT NULL DEFAULT '',    -- among the members; '' where there is one
    planned   jsonb NOT NULL DEFAULT '{}', -- what the device was when the change was drafted
    stands    jsonb,                       -- what ran and what lay in the slots when it was last found ready
    open      boolean NOT NULL DEFAULT false, -- the change occupies the device; kept by a trigger on changes
    PRIMARY KEY (change_id, number)
);
INSERT INTO members (change_id, number, device_id, planned, stands, open)
    SELECT id, 1, device_id, planned, stands, state IN ('running', 'holding', 'held', 'asking') OR state = 'scheduled' AND started_at IS NOT NULL FROM changes;
DROP INDEX one_open_change;
CREATE UNIQUE INDEX one_open_change ON members (device_id) WHERE open;
CREATE INDEX ON members (device_id, change_id DESC);

-- States and kinds as the trade calls them.
ALTER TABLE changes DISABLE TRIGGER change_state_since;
UPDATE changes SET state = CASE state WHEN 'held' THEN 'paused' ELSE 'pausing' END WHERE state IN ('held', 'holding');
UPDATE changes SET kind = 'operations' WHERE kind = 'acts';
ALTER TABLE changes ENABLE TRIGGER change_state_since;
ALTER TABLE changes RENAME COLUMN hold_asked TO pause_asked;
ALTER TABLE changes
    DROP COLUMN device_id,
    DROP COLUMN planned,
    DROP COLUMN stands,
    ADD COLUMN plan_format int NOT NULL DEFAULT 2; -- of steps, ways back and wish
UPDATE changes SET question = jsonb_set(question, '{answers}', (SELECT jsonb_agg(CASE a WHEN '"hold"' THEN '"pause"' ELSE a END) FROM jsonb_array_elements(question->'answers') a))
    WHERE question->'answers' @> '["hold"]';

DROP INDEX one_open_fetch;
UPDATE fetches SET state = 'paused' WHERE state = 'held';
CREATE UNIQUE INDEX one_open_fetch ON fetches (sha256) WHERE state IN ('waiting', 'running', 'paused');

-- +goose StatementBegin
CREATE FUNCTION change_occupies() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    UPDATE members SET open = NEW.state IN ('running', 'pausing', 'paused', 'asking') OR NEW.state = 'scheduled' AND NEW.started_at IS NOT NULL WHERE change_id = NEW.id;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER change_occupies AFTER UPDATE ON changes FOR EACH ROW
    WHEN (OLD.state IS DISTINCT FROM NEW.state OR OLD.started_at IS DISTINCT FROM NEW.started_at) EXECUTE FUNCTION change_occupies();

-- How long steps took, by model and kind: what forecasts are made of. A trigger keeps it, so that nobody has to look through all steps. A step that
-- is done again, or that nobody carried for a while, says nothing.
CREATE TABLE learnt_durations (
    change_id bigint NOT NULL,
    number    int NOT NULL,
    model     text NOT NULL,
    kind      text NOT NULL,
    ended_at  timestamptz NOT NULL,
    seconds   double precision NOT NULL,
    PRIMARY KEY (change_id, number),
    FOREIGN KEY (change_id, number) REFERENCES steps ON DELETE CASCADE
);
CREATE INDEX learnt_by_kind ON learnt_durations (model, kind, ended_at DESC);
INSERT INTO learnt_durations
    SELECT change_id, number, model, kind, ended_at, seconds FROM (
        SELECT s.change_id, s.number, m.planned->>'model' AS model, s.plan->>'kind' AS kind, s.ended_at, extract(epoch FROM s.ended_at - s.started_at) AS seconds,
            row_number() OVER (PARTITION BY m.planned->>'model', s.plan->>'kind' ORDER BY s.ended_at DESC) AS n
        FROM steps s JOIN members m ON m.change_id = s.change_id AND m.number = 1
        WHERE s.state = 'done' AND NOT s.paused AND s.started_at IS NOT NULL AND s.ended_at IS NOT NULL AND s.plan->>'kind' <> 'hand' AND m.planned->>'model' <> '') t WHERE n <= 200;

-- +goose StatementBegin
CREATE FUNCTION step_learnt() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF NEW.state = 'done' AND NOT NEW.paused AND NEW.started_at IS NOT NULL AND NEW.ended_at IS NOT NULL AND NEW.plan->>'kind' <> 'hand' THEN
        INSERT INTO learnt_durations (change_id, number, model, kind, ended_at, seconds)
            SELECT NEW.change_id, NEW.number, m.planned->>'model', NEW.plan->>'kind', NEW.ended_at, extract(epoch FROM NEW.ended_at - NEW.started_at)
            FROM members m WHERE m.change_id = NEW.change_id AND m.number = greatest(coalesce((NEW.plan->>'member')::int, 1), 1) AND m.planned->>'model' <> ''
            ON CONFLICT (change_id, number) DO UPDATE SET ended_at = excluded.ended_at, seconds = excluded.seconds;
    ELSE
        DELETE FROM learnt_durations WHERE change_id = NEW.change_id AND number = NEW.number;
    END IF;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER step_learnt AFTER UPDATE ON steps FOR EACH ROW
    WHEN (OLD.state IS DISTINCT FROM NEW.state AND (OLD.state = 'done' OR NEW.state = 'done') OR OLD.paused IS DISTINCT FROM NEW.paused AND NEW.state = 'done') EXECUTE FUNCTION step_learnt();

CREATE INDEX backups_of_change ON backups (change_id, hop) WHERE change_id IS NOT NULL;
CREATE INDEX restores_of_backup ON changes (((work->>'backup')::bigint)) WHERE kind = 'restore';
CREATE INDEX changes_by_state ON changes (state) WHERE state NOT IN ('done', 'returned', 'failed', 'stopped');

-- The credentials of a device: its own and those of its groups, each by an index that holds the order in which they are tried.
CREATE INDEX credentials_of_device ON credentials (device_id, versions, id) WHERE device_id IS NOT NULL;
CREATE INDEX credentials_of_group ON credentials (group_name, versions, id) WHERE device_id IS NULL;

-- +goose Down
DROP INDEX credentials_of_group, credentials_of_device, changes_by_state, restores_of_backup, backups_of_change;
DROP TRIGGER step_learnt ON steps;
DROP FUNCTION step_learnt;
DROP TABLE learnt_durations;
DROP TRIGGER change_occupies ON changes;
DROP FUNCTION change_occupies;
DROP INDEX one_open_fetch;
UPDATE fetches SET state = 'held' WHERE state = 'paused';
CREATE UNIQUE INDEX one_open_fetch ON fetches (sha256) WHERE state IN ('waiting', 'running', 'held');
ALTER TABLE changes ADD COLUMN device_id bigint REFERENCES devices, ADD COLUMN planned jsonb NOT NULL DEFAULT '{}', ADD COLUMN stands jsonb, DROP COLUMN plan_format;
UPDATE changes c SET device_id = m.device_id, planned = m.planned, stands = m.stands, state = CASE state WHEN 'paused' THEN 'held' WHEN 'pausing' THEN 'holding' ELSE state END,
    kind = CASE kind WHEN 'operations' THEN 'acts' ELSE kind END FROM members m WHERE m.change_id = c.id AND m.number = 1;
ALTER TABLE changes ALTER COLUMN device_id SET NOT NULL;
ALTER TABLE changes RENAME COLUMN pause_asked TO hold_asked;
DROP TABLE members;
CREATE INDEX ON changes (device_id, id DESC);
CREATE UNIQUE INDEX one_open_change ON changes (device_id) WHERE state IN ('running', 'holding', 'held', 'asking') OR state = 'scheduled' AND started_at IS NOT NULL;
