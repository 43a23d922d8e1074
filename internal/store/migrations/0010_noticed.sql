-- +goose Up

-- When each finding came and went. What was there when somebody first looked has no beginning: it came then.
CREATE TABLE noticed (
  id      CHAR(64) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL, -- SHA-256 of the finding's id
  finding TEXT NOT NULL,
  kind    VARCHAR(60) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  about   TEXT NOT NULL,          -- JSON
  cause   TEXT NOT NULL,
  came    BIGINT NOT NULL,
  gone    BIGINT NOT NULL,        -- the last moment of all while it is there
  PRIMARY KEY (id, came),
  KEY by_end (gone, kind)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- +goose Down

DROP TABLE noticed;
