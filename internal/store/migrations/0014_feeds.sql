-- +goose Up

-- People whom partners keep in our directory (SCIM 2.0): what their feed says of each.
CREATE TABLE fed_user (
  n           BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
  id          CHAR(36) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  partner     VARCHAR(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  user_name   VARCHAR(400) NOT NULL,
  external_id VARCHAR(400) NOT NULL,
  address     VARCHAR(260) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  active      BOOLEAN NOT NULL,
  applied     BOOLEAN NOT NULL,
  doc         MEDIUMTEXT NOT NULL,
  version     INT UNSIGNED NOT NULL,
  made        BIGINT NOT NULL,
  changed     BIGINT NOT NULL,
  closed      BIGINT NOT NULL,
  gone        BIGINT NOT NULL,
  PRIMARY KEY (n),
  UNIQUE KEY by_id (id),
  KEY by_partner (partner, gone, n),
  KEY by_name (partner, user_name(190), gone),
  KEY by_external (partner, external_id(190), gone),
  KEY by_address (address, gone),
  KEY by_applied (partner, applied, gone, n),
  KEY by_closed (partner, closed)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- What came of the requests of feeds: for people to look at, not for proof.
CREATE TABLE fed_log (
  n       BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
  partner VARCHAR(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  at      BIGINT NOT NULL,
  what    VARCHAR(20) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  user    CHAR(36) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  address VARCHAR(260) NOT NULL,
  detail  VARCHAR(1000) NOT NULL,
  PRIMARY KEY (n),
  KEY by_partner (partner, n),
  KEY by_user (user, n),
  KEY by_address (address(190))
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- +goose Down

DROP TABLE fed_log;
DROP TABLE fed_user;
