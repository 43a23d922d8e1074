-- +goose Up

-- With what else somebody proves who they are: a secret from which one-time codes are made (RFC 6238), sealed with a key that
-- only their password makes.
CREATE TABLE second_factor (
  account   VARCHAR(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL PRIMARY KEY,
  salt      BINARY(16) NOT NULL,
  sealed    VARBINARY(300) NOT NULL,
  made      BIGINT NOT NULL,
  confirmed BIGINT NOT NULL,
  step      BIGINT NOT NULL
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- Codes for when the device is lost, each good once.
CREATE TABLE recovery_code (
  account VARCHAR(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  hash    BINARY(32) NOT NULL,
  PRIMARY KEY (account, hash)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- +goose Down

DROP TABLE recovery_code;
DROP TABLE second_factor;
