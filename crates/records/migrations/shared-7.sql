-- Records are found by their name without regard to case in every script (`key`), carry
-- their groups with them, and say under which key their secrets are sealed. Password
-- hashes are sealed like other secrets. Whatever changes records is kept in a log.
-- `fold`, `seal` and `keyed` are functions of the program.

CREATE TABLE nas_now (
    key                           TEXT PRIMARY KEY,
    name                          TEXT NOT NULL,
    network                       TEXT NOT NULL UNIQUE,
    kind                          TEXT NOT NULL,
    site                          TEXT NOT NULL,
    dialect                       TEXT NOT NULL,
    secret                        BLOB NOT NULL, -- sealed
    require_message_authenticator INTEGER NOT NULL
) STRICT;
INSERT INTO nas_now
SELECT fold(name), name, network, kind, site, dialect, keyed(secret), require_message_authenticator FROM nas;
DROP TABLE nas;
ALTER TABLE nas_now RENAME TO nas;

CREATE TABLE person_now (
    store         TEXT NOT NULL REFERENCES store (name),
    key           TEXT NOT NULL,
    name          TEXT NOT NULL,
    password_hash BLOB NOT NULL, -- Argon2id in PHC form, sealed
    recoverable   BLOB,          -- sealed; only where CHAP is wanted
    nt_hash       BLOB,          -- sealed; only where MS-CHAP is wanted
    groups        TEXT NOT NULL, -- a JSON array
    disabled      INTEGER NOT NULL,
    expires       INTEGER,       -- milliseconds since 1970
    PRIMARY KEY (store, key)
) STRICT;
INSERT INTO person_now
SELECT store, fold(name), name, seal('the password hash of person ' || fold(name) || ' in ' || store, password_hash),
    keyed(recoverable), keyed(nt_hash),
    (SELECT json_group_array(group_name ORDER BY g.rowid) FROM person_group g
     WHERE g.store = person.store AND person = person.name),
    disabled, expires
FROM person;
DROP TABLE person_group;
DROP TABLE person;
ALTER TABLE person_now RENAME TO person;

CREATE TABLE machine_now (
    store         TEXT NOT NULL REFERENCES store (name),
    key           TEXT NOT NULL,
    name          TEXT NOT NULL,
    password_hash BLOB,          -- sealed; none where it has only certificates
    nt_hash       BLOB,          -- sealed
    groups        TEXT NOT NULL, -- a JSON array
    disabled      INTEGER NOT NULL,
    expires       INTEGER,       -- milliseconds since 1970
    PRIMARY KEY (store, key)
) STRICT;
INSERT INTO machine_now
SELECT store, fold(name), name, seal('the password hash of machine ' || fold(name) || ' in ' || store, password_hash),
    keyed(nt_hash),
    (SELECT json_group_array(group_name ORDER BY g.rowid) FROM machine_group g
     WHERE g.store = machine.store AND machine = machine.name),
    disabled, expires
FROM machine;
DROP TABLE machine_group;
DROP TABLE machine;
ALTER TABLE machine_now RENAME TO machine;

CREATE TABLE device_now (
    store  TEXT NOT NULL REFERENCES store (name),
    mac    BLOB NOT NULL CHECK (length(mac) = 6),
    title  TEXT NOT NULL,
    groups TEXT NOT NULL, -- a JSON array
    barred INTEGER NOT NULL,
    PRIMARY KEY (store, mac)
) STRICT;
INSERT INTO device_now
SELECT store, mac, title,
    (SELECT json_group_array(group_name ORDER BY g.rowid) FROM device_group g
     WHERE g.store = device.store AND g.mac = device.mac),
    barred
FROM device;
DROP TABLE device_group;
DROP TABLE device;
ALTER TABLE device_now RENAME TO device;

CREATE TABLE administrator_now (
    key           TEXT PRIMARY KEY,
    name          TEXT NOT NULL,
    password_hash BLOB NOT NULL, -- Argon2id in PHC form, sealed
    created_at    INTEGER NOT NULL
) STRICT;
INSERT INTO administrator_now
SELECT fold(name), name, seal('the password hash of administrator ' || fold(name), password_hash), created_at
FROM administrator;
CREATE TABLE token_now (
    hash          BLOB PRIMARY KEY, -- SHA-256 of the token
    administrator TEXT NOT NULL REFERENCES administrator (key) ON DELETE CASCADE,
    created_at    INTEGER NOT NULL
) STRICT;
INSERT INTO token_now SELECT hash, fold(administrator), created_at FROM token;
DROP TABLE token;
DROP TABLE administrator;
ALTER TABLE administrator_now RENAME TO administrator;
ALTER TABLE token_now RENAME TO token;

UPDATE certificate SET key = keyed(key);
-- When something was changed is in the log.
ALTER TABLE certificate DROP COLUMN changed_at;
ALTER TABLE trust DROP COLUMN changed_at;
-- Which key is in use is known by its id.
DELETE FROM setting WHERE name = 'seal';

-- Every command, in the order in which it was applied.
CREATE TABLE command (
    revision INTEGER PRIMARY KEY, -- from 1, without a hole
    id       BLOB NOT NULL UNIQUE CHECK (length(id) = 16),
    version  INTEGER NOT NULL,
    author   TEXT NOT NULL,
    at       INTEGER NOT NULL,    -- milliseconds since 1970
    command  TEXT NOT NULL,       -- JSON; secrets sealed
    outcome  TEXT NOT NULL,       -- JSON
    before   TEXT NOT NULL        -- JSON: the changed records as they were; secrets sealed
) STRICT;
