-- +goose Up

-- What is current and what is past lie apart: a start reads what is current, and
-- none of what it took the place of. A row goes over when something takes its
-- place. The keys say until_seq because a key has to tell in which of the two a
-- row lies.
ALTER TABLE guest DROP PRIMARY KEY, ADD PRIMARY KEY (address, from_seq, until_seq)
  PARTITION BY RANGE (until_seq) (PARTITION past VALUES LESS THAN (18446744073709551615), PARTITION now VALUES LESS THAN MAXVALUE);
ALTER TABLE `grant` DROP PRIMARY KEY, ADD PRIMARY KEY (party, resource, resource_kind, role, starts, from_seq, until_seq)
  PARTITION BY RANGE (until_seq) (PARTITION past VALUES LESS THAN (18446744073709551615), PARTITION now VALUES LESS THAN MAXVALUE);
ALTER TABLE item DROP PRIMARY KEY, ADD PRIMARY KEY (id, from_seq, until_seq)
  PARTITION BY RANGE (until_seq) (PARTITION past VALUES LESS THAN (18446744073709551615), PARTITION now VALUES LESS THAN MAXVALUE);
ALTER TABLE record DROP PRIMARY KEY, ADD PRIMARY KEY (kind, id, from_seq, until_seq)
  PARTITION BY RANGE (until_seq) (PARTITION past VALUES LESS THAN (18446744073709551615), PARTITION now VALUES LESS THAN MAXVALUE);

-- +goose Down

-- Earlier versions read and write the tables as they are; putting millions of
-- rows together again would give nobody anything.
SELECT 1;
