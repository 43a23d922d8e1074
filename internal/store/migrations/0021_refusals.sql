-- +goose Up

-- How often callers were told no, by partner and action: of no partner's people, the empty id. Nobody is named.
CREATE TABLE refusal (
  day     INT NOT NULL,           -- since 1970-01-01
  partner VARCHAR(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  action  VARCHAR(60) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  times   BIGINT NOT NULL,
  PRIMARY KEY (day, partner, action)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- +goose Down

DROP TABLE refusal;
