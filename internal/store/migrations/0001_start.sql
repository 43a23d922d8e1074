-- +goose Up

-- Every text is compared byte by byte, blanks at the end included: the start
-- collations of a server would find "captain" for "captain ".

-- The one row that every change locks: sequence numbers have no gaps and appear
-- in the order of commit, so that whoever follows misses nothing.
CREATE TABLE head (
  one      TINYINT UNSIGNED NOT NULL PRIMARY KEY CHECK (one = 1),
  seq      BIGINT UNSIGNED NOT NULL,
  revision BIGINT UNSIGNED NOT NULL,
  seal     BINARY(32) NOT NULL
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
INSERT INTO head VALUES (1, 0, 0, REPEAT(CHAR(0), 32));

-- Who changed what, when, from what to what, and why. Never updated.
CREATE TABLE journal (
  seq      BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  part_of  BIGINT UNSIGNED NOT NULL,
  at       DATETIME(6) NOT NULL,
  who      VARCHAR(190) NOT NULL,
  kind     VARCHAR(24) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  id       VARCHAR(600) NOT NULL,
  was      LONGTEXT,
  now      LONGTEXT,
  why      TEXT NOT NULL,
  revision BIGINT UNSIGNED NOT NULL,
  seal     BINARY(32) NOT NULL,
  KEY by_thing (kind, id(190), seq)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- Policy: revisions are immutable and numbered; an entry holds from its
-- revision until the one that replaced or removed it.
CREATE TABLE revision (
  number BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  at     DATETIME(6) NOT NULL,
  who    VARCHAR(190) NOT NULL,
  why    TEXT NOT NULL
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

CREATE TABLE policy (
  kind           VARCHAR(24) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  id             VARCHAR(260) NOT NULL,
  from_revision  BIGINT UNSIGNED NOT NULL,
  until_revision BIGINT UNSIGNED NOT NULL DEFAULT 18446744073709551615,
  doc            LONGTEXT NOT NULL,
  PRIMARY KEY (kind, id, from_revision),
  KEY by_revision (until_revision, from_revision)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- Inventory: every version of every record, from the journal entry that wrote
-- it until the one that replaced it. Moments are microseconds since 1970 in UTC.
CREATE TABLE record (
  kind      VARCHAR(24) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  id        VARCHAR(400) NOT NULL,
  from_seq  BIGINT UNSIGNED NOT NULL,
  until_seq BIGINT UNSIGNED NOT NULL DEFAULT 18446744073709551615,
  doc       LONGTEXT NOT NULL,
  PRIMARY KEY (kind, id, from_seq)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

CREATE TABLE item (
  id        VARCHAR(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  from_seq  BIGINT UNSIGNED NOT NULL,
  until_seq BIGINT UNSIGNED NOT NULL DEFAULT 18446744073709551615,
  space     VARCHAR(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  place     INT UNSIGNED NOT NULL,
  kind      TINYINT UNSIGNED NOT NULL,
  name      TEXT NOT NULL,
  private   BOOLEAN NOT NULL,
  rules     TEXT,
  PRIMARY KEY (id, from_seq),
  KEY by_space (space)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

CREATE TABLE guest (
  address     VARCHAR(254) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  from_seq    BIGINT UNSIGNED NOT NULL,
  until_seq   BIGINT UNSIGNED NOT NULL DEFAULT 18446744073709551615,
  name        TEXT NOT NULL,
  sponsor     VARCHAR(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  purpose     TEXT NOT NULL,
  state       TINYINT UNSIGNED NOT NULL,
  cause       TEXT NOT NULL,
  state_since BIGINT NOT NULL,
  origins     TINYINT UNSIGNED NOT NULL,
  since       BIGINT NOT NULL,
  accepted    BIGINT NOT NULL,
  renewed     BIGINT NOT NULL,
  ends        BIGINT NOT NULL,
  terms       BIGINT NOT NULL,
  last_seen   BIGINT NOT NULL,
  language    TEXT NOT NULL,
  location    TEXT NOT NULL,
  licence     TINYINT UNSIGNED NOT NULL,
  PRIMARY KEY (address, from_seq)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

CREATE TABLE `grant` (
  party         VARCHAR(260) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  resource_kind TINYINT UNSIGNED NOT NULL,
  resource      VARCHAR(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  role          TINYINT UNSIGNED NOT NULL,
  starts        BIGINT NOT NULL,
  from_seq      BIGINT UNSIGNED NOT NULL,
  until_seq     BIGINT UNSIGNED NOT NULL DEFAULT 18446744073709551615,
  ends          BIGINT NOT NULL,
  sponsor       VARCHAR(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  reviewed      BIGINT NOT NULL,
  PRIMARY KEY (party, resource, resource_kind, role, starts, from_seq)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- Who may sign in to administer, and with what.
CREATE TABLE account (
  name     VARCHAR(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL PRIMARY KEY,
  role     VARCHAR(24) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  person   VARCHAR(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL DEFAULT '',
  password VARCHAR(200) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  disabled BOOLEAN NOT NULL DEFAULT FALSE,
  version  BIGINT UNSIGNED NOT NULL DEFAULT 1
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

CREATE TABLE token (
  id      CHAR(16) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL PRIMARY KEY,
  secret  BINARY(32) NOT NULL UNIQUE,
  account VARCHAR(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  name    VARCHAR(100) NOT NULL,
  scope   VARCHAR(24) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  made    DATETIME(6) NOT NULL,
  expires DATETIME(6) NOT NULL
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

CREATE TABLE sessions (
  token  VARCHAR(64) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL PRIMARY KEY,
  data   BLOB NOT NULL,
  expiry TIMESTAMP(6) NOT NULL,
  KEY by_expiry (expiry)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- +goose Down
DROP TABLE sessions;
DROP TABLE token;
DROP TABLE account;
DROP TABLE `grant`;
DROP TABLE guest;
DROP TABLE item;
DROP TABLE record;
DROP TABLE policy;
DROP TABLE revision;
DROP TABLE journal;
DROP TABLE head;
