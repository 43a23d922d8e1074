-- +goose Up

-- Keys that sign our statements. The private half is needed to sign, so it is kept
-- as it is: whoever reads this table can state things in our name. It never enters
-- the journal, a dump or a log.
CREATE TABLE signing_key (
  id      VARCHAR(64) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL PRIMARY KEY,
  state   VARCHAR(12) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  since   DATETIME(6) NOT NULL,
  private TEXT NOT NULL
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- +goose Down
DROP TABLE signing_key;
