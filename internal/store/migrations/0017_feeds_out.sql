-- +goose Up

-- People of ours whom feeds keep in directories of partners (SCIM 2.0).
CREATE TABLE sent_user (
  n         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
  partner   VARCHAR(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  person    VARCHAR(260) NOT NULL,
  remote    VARCHAR(400) NOT NULL,
  user_name VARCHAR(260) NOT NULL,
  doc       TEXT NOT NULL,
  state     VARCHAR(12) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  problem   VARCHAR(1000) NOT NULL,
  tries     INT UNSIGNED NOT NULL,
  next      BIGINT NOT NULL,
  changed   BIGINT NOT NULL,
  closed    BIGINT NOT NULL,
  PRIMARY KEY (n),
  UNIQUE KEY by_person (partner, person),
  KEY by_closed (partner, closed)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- How each such feed goes: when it is sent next, how far it is, and who sends it.
CREATE TABLE sent_feed (
  partner VARCHAR(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  next    BIGINT NOT NULL,
  began   BIGINT NOT NULL,
  ended   BIGINT NOT NULL,
  total   INT UNSIGNED NOT NULL,
  done    INT UNSIGNED NOT NULL,
  tries   INT UNSIGNED NOT NULL,
  problem VARCHAR(1000) NOT NULL,
  since   BIGINT NOT NULL,
  told    BOOLEAN NOT NULL,
  did     TEXT NOT NULL,
  holder  VARCHAR(40) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  until   BIGINT NOT NULL,
  PRIMARY KEY (partner)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- What came of it, for people to look at: of feeds that come in, and of those that go out.
ALTER TABLE fed_log
  ADD COLUMN goes_out BOOLEAN NOT NULL DEFAULT FALSE,
  MODIFY COLUMN user VARCHAR(260) NOT NULL,
  ADD KEY by_way (partner, goes_out, n);

-- +goose Down

-- What came of requests is for looking at: it goes, since persons of ours would be taken for users of theirs.
DELETE FROM fed_log;
ALTER TABLE fed_log
  DROP KEY by_way,
  DROP COLUMN goes_out,
  MODIFY COLUMN user CHAR(36) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL;
DROP TABLE sent_feed;
DROP TABLE sent_user;
