-- +goose Up

-- Up to which moment a partner was told who of ours has left: somebody leaves on a day, and no entry of the journal says so then.
ALTER TABLE webhook_work ADD COLUMN looked BIGINT NOT NULL DEFAULT 0;

-- +goose Down

ALTER TABLE webhook_work DROP COLUMN looked;
