-- +goose Up

-- What a system keeps of our inventory, as it was read: a row for every state of a record of it, from when
-- it was first seen until it was found otherwise or gone. It is in no journal; what is read can be read
-- again. ours is what the entry is known by here, empty where it is nobody of ours'.
CREATE TABLE system_found (
  system   VARCHAR(60) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  kind     VARCHAR(20) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  native   VARBINARY(200) NOT NULL,
  at       BIGINT NOT NULL,
  gone     BIGINT NOT NULL,
  round    BIGINT NOT NULL,
  ours     VARBINARY(620) NOT NULL,
  doc      TEXT NOT NULL,
  accepted BIGINT NOT NULL DEFAULT 0,
  opened   INT UNSIGNED, -- how often it was opened, where the system tells
  PRIMARY KEY (system, kind, native, at),
  KEY by_ours (system, kind, gone, ours),
  KEY by_native (system, kind, gone, native),
  KEY by_whom (ours)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- How each entry of our inventory stands in a system. What is sent and what comes of it is in the journal.
CREATE TABLE system_record (
  system    VARCHAR(60) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  kind      VARCHAR(20) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  ours      VARBINARY(620) NOT NULL,
  native    VARBINARY(200) NOT NULL,
  state     VARCHAR(12) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  turn      VARCHAR(12) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  place     TINYINT UNSIGNED NOT NULL, -- the order in which it is sent: what tightens, then the rest from 100 on
  sent      BIGINT NOT NULL,
  counts    BIGINT NOT NULL,
  next      BIGINT NOT NULL,
  drift     BOOLEAN NOT NULL,
  shown     BOOLEAN NOT NULL, -- it was shown before the system was carried
  doc       TEXT NOT NULL,
  PRIMARY KEY (system, kind, ours),
  KEY by_state (system, state, place, ours),
  KEY by_sent (system, sent),
  KEY by_native (system, kind, native),
  KEY by_drift (system, drift)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

ALTER TABLE system_work
  ADD COLUMN records BIGINT UNSIGNED NOT NULL DEFAULT 0, -- moves whenever one of the two tables does
  ADD COLUMN listed  BIGINT NOT NULL DEFAULT 0,          -- when its records were last read as a whole
  ADD COLUMN empty   TEXT NOT NULL DEFAULT '',           -- kinds of which a reading showed none, though there were some
  ADD COLUMN braked  INT UNSIGNED NOT NULL DEFAULT 0;    -- steps that wait because they are more than are let go in a day

-- +goose Down

ALTER TABLE system_work DROP COLUMN braked, DROP COLUMN empty, DROP COLUMN listed, DROP COLUMN records;
DROP TABLE system_record;
DROP TABLE system_found;
