-- +goose Up

-- Records of reach: what they say stands among the records of the journal; here are their parts, piece by piece.
CREATE TABLE evidence_part (
  evidence VARCHAR(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  place    INT UNSIGNED NOT NULL,
  piece    LONGBLOB NOT NULL,
  PRIMARY KEY (evidence, place)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- Whom the numbers of a record stand for. Salt and name are blank once somebody is forgotten.
CREATE TABLE evidence_name (
  evidence VARCHAR(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  party    INT UNSIGNED NOT NULL,
  digest   CHAR(64) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  salt     VARCHAR(32) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  name     VARCHAR(400) NOT NULL,
  PRIMARY KEY (evidence, party),
  KEY by_name (name(190))
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- +goose Down

DROP TABLE evidence_name;
DROP TABLE evidence_part;
