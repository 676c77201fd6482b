-- A store may be outside, and then says how it is asked: as a JSON object, the secret of whoever
-- asks apart and sealed.
CREATE TABLE store_15 (
    number   INTEGER PRIMARY KEY,
    name     TEXT NOT NULL UNIQUE,
    kind     TEXT NOT NULL CHECK (kind IN ('people', 'devices', 'directory')),
    settings TEXT NOT NULL DEFAULT '',
    secret   BLOB,
    revision INTEGER NOT NULL DEFAULT 0
) STRICT;
INSERT INTO store_15 (number, name, kind, revision) SELECT number, name, kind, revision FROM store;
DROP TABLE store;
ALTER TABLE store_15 RENAME TO store;
