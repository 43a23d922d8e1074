-- +goose Up

-- Before dates_from no counted step of a record falls; 0 is none, the largest number is while
-- its dates wait. taken_over says that it was loaded rather than begun here.
ALTER TABLE guest ADD COLUMN dates_from BIGINT NOT NULL DEFAULT 0, ADD COLUMN taken_over BOOLEAN NOT NULL DEFAULT FALSE;

-- +goose Down

ALTER TABLE guest DROP COLUMN dates_from, DROP COLUMN taken_over;
