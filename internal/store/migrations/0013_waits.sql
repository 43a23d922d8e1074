-- +goose Up

-- Until when a round of review asks about a role: its own review days wait until then.
ALTER TABLE `grant` ADD COLUMN waits BIGINT NOT NULL DEFAULT 0;

-- +goose Down

ALTER TABLE `grant` DROP COLUMN waits;
