-- +goose Up

-- Several nodes of a database tell rows apart by their key (Galera).
ALTER TABLE door_asked ADD COLUMN number BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY FIRST;

-- +goose Down

ALTER TABLE door_asked DROP COLUMN number;
