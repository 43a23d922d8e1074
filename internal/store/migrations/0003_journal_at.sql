-- +goose Up

-- A moment of the past is found by when its last entry was written.
CREATE INDEX by_at ON journal (at, seq);

-- +goose Down
DROP INDEX by_at ON journal;
