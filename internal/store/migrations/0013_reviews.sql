-- +goose Up

-- Until when a round of review asks about a role: its own review days wait until then.
ALTER TABLE `grant` ADD COLUMN waits BIGINT NOT NULL DEFAULT 0;

-- The item that somebody keeps in place of the whole space, where a review made it narrower.
ALTER TABLE review_line ADD COLUMN instead VARCHAR(200) NOT NULL DEFAULT '';

-- +goose Down

ALTER TABLE review_line DROP COLUMN instead;

ALTER TABLE `grant` DROP COLUMN waits;
