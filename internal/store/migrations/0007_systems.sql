-- +goose Up

-- What was read of a system: a row for every reading that differs from the one before, which says up to
-- when it was found again. It is in no journal; what is read can be read again.
CREATE TABLE system_reading (
  system VARCHAR(60) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  at     BIGINT NOT NULL,
  seen   BIGINT NOT NULL,
  doc    LONGTEXT NOT NULL,
  PRIMARY KEY (system, at)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- Which service works on a system, until when, and how the last tries went.
CREATE TABLE system_work (
  system  VARCHAR(60) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL PRIMARY KEY,
  holder  VARCHAR(40) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL DEFAULT '',
  until   BIGINT NOT NULL DEFAULT 0,
  tried   BIGINT NOT NULL DEFAULT 0,
  fails   INT UNSIGNED NOT NULL DEFAULT 0,
  problem TEXT NOT NULL
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- +goose Down

DROP TABLE system_work;
DROP TABLE system_reading;
