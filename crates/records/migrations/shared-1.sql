-- What people configure. One day replicated: every change is one transaction of
-- deterministic statements, times and random values being parameters.

CREATE TABLE setting (
    name  TEXT PRIMARY KEY,
    value BLOB NOT NULL
) STRICT;

CREATE TABLE nas (
    name                          TEXT PRIMARY KEY COLLATE NOCASE,
    network                       TEXT NOT NULL UNIQUE,
    kind                          TEXT NOT NULL,
    site                          TEXT NOT NULL,
    dialect                       TEXT NOT NULL,
    secret                        BLOB NOT NULL, -- sealed
    require_message_authenticator INTEGER NOT NULL
) STRICT;

CREATE TABLE store (
    name TEXT PRIMARY KEY,
    kind TEXT NOT NULL CHECK (kind IN ('people', 'endpoints'))
) STRICT;

CREATE TABLE person (
    store         TEXT NOT NULL REFERENCES store (name) ON DELETE CASCADE,
    name          TEXT NOT NULL COLLATE NOCASE,
    password_hash TEXT NOT NULL, -- Argon2id in PHC form
    recoverable   BLOB,          -- sealed; only where CHAP is wanted
    disabled      INTEGER NOT NULL,
    expires       INTEGER,       -- milliseconds since 1970
    PRIMARY KEY (store, name)
) STRICT;

CREATE TABLE person_group (
    store      TEXT NOT NULL,
    person     TEXT NOT NULL COLLATE NOCASE,
    group_name TEXT NOT NULL COLLATE NOCASE,
    PRIMARY KEY (store, person, group_name),
    FOREIGN KEY (store, person) REFERENCES person (store, name) ON DELETE CASCADE
) STRICT;

CREATE TABLE endpoint (
    store  TEXT NOT NULL REFERENCES store (name) ON DELETE CASCADE,
    mac    BLOB NOT NULL CHECK (length(mac) = 6),
    title  TEXT NOT NULL,
    barred INTEGER NOT NULL,
    PRIMARY KEY (store, mac)
) STRICT;

CREATE TABLE endpoint_group (
    store      TEXT NOT NULL,
    mac        BLOB NOT NULL,
    group_name TEXT NOT NULL COLLATE NOCASE,
    PRIMARY KEY (store, mac, group_name),
    FOREIGN KEY (store, mac) REFERENCES endpoint (store, mac) ON DELETE CASCADE
) STRICT;

CREATE TABLE edition (
    number     INTEGER PRIMARY KEY,
    source     TEXT NOT NULL,
    state      TEXT NOT NULL CHECK (state IN ('draft', 'active', 'retired')),
    created_at INTEGER NOT NULL,
    created_by TEXT NOT NULL
) STRICT;

CREATE UNIQUE INDEX one_active_edition ON edition (state) WHERE state = 'active';

CREATE TABLE administrator (
    name          TEXT PRIMARY KEY COLLATE NOCASE,
    password_hash TEXT NOT NULL,
    created_at    INTEGER NOT NULL
) STRICT;

CREATE TABLE token (
    hash          BLOB PRIMARY KEY, -- SHA-256 of the token
    administrator TEXT NOT NULL REFERENCES administrator (name) ON DELETE CASCADE,
    created_at    INTEGER NOT NULL
) STRICT;
