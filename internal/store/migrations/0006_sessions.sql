-- +goose Up

-- Sessions of a name that began before a journal entry are over. The name is that of an account,
-- guest:ADDRESS, partner:ID, or barred:KEY, which is a domain or an address.
CREATE TABLE ended_sessions (
  name VARCHAR(300) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL PRIMARY KEY,
  seq  BIGINT UNSIGNED NOT NULL
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- A code belongs to the browser that asked for it, so that nobody else uses up its tries. The
-- row is there from the moment it is asked for, with what no code hashes to, whether the
-- address is known or not.
DROP TABLE door_code;
CREATE TABLE door_code (
  address VARCHAR(254) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  browser BINARY(32) NOT NULL,
  salt    BINARY(16) NOT NULL,
  hash    BINARY(32) NOT NULL,
  ends    BIGINT NOT NULL,
  tries   INT UNSIGNED NOT NULL,
  PRIMARY KEY (address, browser)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- From where it was asked for, beside for whom.
ALTER TABLE door_asked ADD COLUMN source VARCHAR(64) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL DEFAULT '';

-- Databases that 0004 reached in its first form lack this.
CREATE INDEX IF NOT EXISTS by_kind ON outbox (state, kind, due);

-- By whose change a message was written: what members send in a day is limited.
ALTER TABLE outbox ADD COLUMN sender VARCHAR(260) NOT NULL DEFAULT '', ADD KEY by_sender (sender, made);

-- Whether the id of an entry, or the address of a record, stands for somebody who was forgotten.
ALTER TABLE journal ADD COLUMN pseudonym BOOLEAN NOT NULL DEFAULT FALSE;
ALTER TABLE guest ADD COLUMN pseudonym BOOLEAN NOT NULL DEFAULT FALSE;
UPDATE journal j JOIN (SELECT id FROM journal WHERE kind = 'forgotten') f ON f.id = j.id SET j.pseudonym = TRUE;
UPDATE guest g JOIN (SELECT id FROM journal WHERE kind = 'forgotten') f ON f.id = g.address SET g.pseudonym = TRUE;

-- A change that somebody is looking at before they decide. It is nobody's draft yet, so it is in
-- no list and in no journal.
CREATE TABLE weighing (
  id   VARCHAR(40) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL PRIMARY KEY,
  doc  LONGTEXT NOT NULL,
  made BIGINT NOT NULL,
  KEY by_made (made)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- +goose Down

DROP TABLE weighing;
ALTER TABLE guest DROP COLUMN pseudonym;
ALTER TABLE journal DROP COLUMN pseudonym;
ALTER TABLE outbox DROP KEY by_sender, DROP COLUMN sender;
ALTER TABLE door_asked DROP COLUMN source;
DROP TABLE door_code;
CREATE TABLE door_code (
  address VARCHAR(254) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL PRIMARY KEY,
  salt    BINARY(16) NOT NULL,
  hash    BINARY(32) NOT NULL,
  ends    BIGINT NOT NULL,
  tries   INT UNSIGNED NOT NULL
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
DROP TABLE ended_sessions;
