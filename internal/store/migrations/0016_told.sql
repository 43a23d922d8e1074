-- +goose Up

-- Events that partners told of their people (Security Event Tokens): each counts once.
CREATE TABLE told_event (
  n        BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
  partner  VARCHAR(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  jti      BINARY(32) NOT NULL,
  kind     VARCHAR(24) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  address  VARCHAR(260) NOT NULL,
  happened BIGINT NOT NULL,
  came     BIGINT NOT NULL,
  result   VARCHAR(24) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  detail   VARCHAR(1000) NOT NULL,
  PRIMARY KEY (n),
  UNIQUE KEY once (partner, jti),
  KEY by_address (partner, address(190), happened)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- +goose Down

DROP TABLE told_event;
