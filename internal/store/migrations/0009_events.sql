-- +goose Up

-- When a service's token was used last, and from where. In the journal it stands once a day.
ALTER TABLE token
  ADD COLUMN used      DATETIME(6) NULL,
  ADD COLUMN used_from VARCHAR(60) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL DEFAULT '';

-- How far each receiver of events was told. What a receiver is stands among the records.
CREATE TABLE webhook_work (
  webhook VARCHAR(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL PRIMARY KEY,
  told    BIGINT UNSIGNED NOT NULL,           -- the last journal entry that it took, or that was nothing to it
  sent    BIGINT NOT NULL DEFAULT 0,          -- when it last took something
  count   BIGINT UNSIGNED NOT NULL DEFAULT 0, -- how many events it took
  tries   INT UNSIGNED NOT NULL DEFAULT 0,    -- in a row that failed
  next    BIGINT NOT NULL DEFAULT 0,          -- not before then
  problem TEXT NOT NULL,
  holder  VARCHAR(60) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL DEFAULT '',
  until   BIGINT NOT NULL DEFAULT 0
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- What ends soon is found without reading everything that was ever given.
ALTER TABLE guest ADD KEY by_end (until_seq, ends);
ALTER TABLE `grant` ADD KEY by_end (until_seq, ends);

-- +goose Down

ALTER TABLE `grant` DROP KEY by_end;
ALTER TABLE guest DROP KEY by_end;

DROP TABLE webhook_work;
ALTER TABLE token DROP COLUMN used_from, DROP COLUMN used;
