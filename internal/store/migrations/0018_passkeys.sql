-- +goose Up

-- Accounts that the organisation's own sign-in vouches for: a digest of who that says they are.
ALTER TABLE account ADD COLUMN subject CHAR(64) CHARACTER SET ascii COLLATE ascii_nopad_bin NULL;
CREATE UNIQUE INDEX IF NOT EXISTS by_subject ON account (subject);

-- Passkeys (WebAuthn) of accounts and of guests: a public key each, and by which handle whoever has it is known to their device.
CREATE TABLE passkey (
  id     CHAR(64) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL PRIMARY KEY,
  owner  VARCHAR(270) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  handle BINARY(32) NOT NULL,
  name   VARCHAR(100) NOT NULL,
  doc    TEXT NOT NULL,
  made   BIGINT NOT NULL,
  used   BIGINT NOT NULL,
  until  BIGINT NOT NULL,
  KEY by_owner (owner),
  KEY by_handle (handle)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- +goose Down

DROP TABLE passkey;
ALTER TABLE account DROP KEY by_subject, DROP COLUMN subject;
