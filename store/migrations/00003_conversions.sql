-- +goose Up
CREATE TABLE conversions (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name       text NOT NULL,
    from_stop  text NOT NULL,
    to_stop    text NOT NULL,
    work       bytea NOT NULL, -- sealed: the source and all that was chosen
    revision   bigint NOT NULL DEFAULT 0,
    created_by text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE conversions;
