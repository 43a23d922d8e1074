-- +goose Up

-- What rounds of review ask about: a line for each role that somebody holds on something, fixed when the round began.
CREATE TABLE review_line (
  round    VARCHAR(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  n        INT UNSIGNED NOT NULL,
  party    VARCHAR(400) NOT NULL,
  resource VARCHAR(200) NOT NULL,
  role     TINYINT UNSIGNED NOT NULL,
  starts   BIGINT NOT NULL,
  bundle   VARCHAR(100) NOT NULL,
  reviewer VARCHAR(120) NOT NULL,
  state    VARCHAR(20) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  said_by  VARCHAR(100) NOT NULL,
  said_at  BIGINT NOT NULL,
  why      VARCHAR(1000) NOT NULL,
  until    BIGINT NOT NULL,
  narrowed TINYINT UNSIGNED NOT NULL,
  PRIMARY KEY (round, n),
  KEY by_state (round, state, n),
  KEY by_reviewer (round, reviewer, state, n),
  KEY by_party (party(190), state)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- +goose Down

DROP TABLE review_line;
