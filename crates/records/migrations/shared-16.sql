-- A store may be a service that tells facts over HTTPS.
CREATE TABLE store_16 (
    number   INTEGER PRIMARY KEY,
    name     TEXT NOT NULL UNIQUE,
    kind     TEXT NOT NULL CHECK (kind IN ('people', 'devices', 'directory', 'http')),
    settings TEXT NOT NULL DEFAULT '',
    secret   BLOB,
    revision INTEGER NOT NULL DEFAULT 0
) STRICT;
INSERT INTO store_16 SELECT number, name, kind, settings, secret, revision FROM store;
DROP TABLE store;
ALTER TABLE store_16 RENAME TO store;
