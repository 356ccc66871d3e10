-- +goose Up
-- Each member of a change has its own readings from before it, with their definitions, and what was concluded of it.
ALTER TABLE members ADD COLUMN readings jsonb, ADD COLUMN definitions jsonb, ADD COLUMN verdict jsonb;
UPDATE members m SET readings = c.readings, definitions = c.definitions FROM changes c WHERE c.id = m.change_id AND m.number = 1 AND c.readings IS NOT NULL;
ALTER TABLE changes DROP COLUMN readings, DROP COLUMN definitions;

-- +goose Down
ALTER TABLE changes ADD COLUMN readings jsonb, ADD COLUMN definitions jsonb;
UPDATE changes c SET readings = m.readings, definitions = m.definitions FROM members m WHERE m.change_id = c.id AND m.number = 1;
ALTER TABLE members DROP COLUMN readings, DROP COLUMN definitions, DROP COLUMN verdict;
