-- +goose Up

ALTER TABLE guest ADD COLUMN home_closed BIGINT NOT NULL DEFAULT 0;

-- What of an entry is forgotten keeps the digest of what it said, so that the chain of
-- seals holds. The salt keeps that digest from being guessed; it goes when the words go.
ALTER TABLE journal ADD COLUMN salt BINARY(16) NULL, ADD COLUMN digest BINARY(32) NULL;

-- Mail on its way. What a message says is made of doc when it is sent, so that no secret
-- lies here. once keeps the same message from being written twice.
CREATE TABLE outbox (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  message_id VARCHAR(200) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL UNIQUE,
  once       VARCHAR(400) CHARACTER SET ascii COLLATE ascii_nopad_bin NULL UNIQUE,
  recipient  VARCHAR(254) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  kind       VARCHAR(24) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  doc        LONGTEXT NOT NULL,
  made       BIGINT NOT NULL,
  due        BIGINT NOT NULL,
  tries      INT UNSIGNED NOT NULL DEFAULT 0,
  state      VARCHAR(12) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL DEFAULT 'waiting',
  sent       BIGINT NOT NULL DEFAULT 0,
  error      TEXT NOT NULL,
  KEY by_due (state, due),
  KEY by_kind (state, kind, due),
  KEY by_recipient (recipient, id)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- Links of invitations, by the hash of their secret.
CREATE TABLE door_key (
  secret  BINARY(32) NOT NULL PRIMARY KEY,
  address VARCHAR(254) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  ends    BIGINT NOT NULL,
  KEY by_address (address)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- The one-time code of an address, hashed; a new one replaces it.
CREATE TABLE door_code (
  address VARCHAR(254) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL PRIMARY KEY,
  salt    BINARY(16) NOT NULL,
  hash    BINARY(32) NOT NULL,
  ends    BIGINT NOT NULL,
  tries   INT UNSIGNED NOT NULL
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- Who asked for codes when, whether we know them or not, to keep the rate.
CREATE TABLE door_asked (
  who VARCHAR(254) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  at  BIGINT NOT NULL,
  KEY by_who (who, at),
  KEY by_at (at)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- How far dated steps have been carried out: those up to a moment, and of that moment
-- those of addresses up to one.
CREATE TABLE carried (
  one     TINYINT UNSIGNED NOT NULL PRIMARY KEY CHECK (one = 1),
  at      BIGINT NOT NULL,
  address VARCHAR(254) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- +goose Down
DROP TABLE carried;
DROP TABLE door_asked;
DROP TABLE door_code;
DROP TABLE door_key;
DROP TABLE outbox;
ALTER TABLE journal DROP COLUMN digest, DROP COLUMN salt;
ALTER TABLE guest DROP COLUMN home_closed;
