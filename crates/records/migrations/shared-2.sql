-- Machines beside people, NT hashes for MS-CHAP, certificates and trust.

-- Sealed; only where MS-CHAP methods are allowed for this person.
ALTER TABLE person ADD COLUMN nt_hash BLOB;

CREATE TABLE machine (
    store         TEXT NOT NULL REFERENCES store (name) ON DELETE CASCADE,
    name          TEXT NOT NULL COLLATE NOCASE,
    password_hash TEXT,          -- Argon2id in PHC form; none where it has only certificates
    nt_hash       BLOB,          -- sealed
    disabled      INTEGER NOT NULL,
    expires       INTEGER,       -- milliseconds since 1970
    PRIMARY KEY (store, name)
) STRICT;

CREATE TABLE machine_group (
    store      TEXT NOT NULL,
    machine    TEXT NOT NULL COLLATE NOCASE,
    group_name TEXT NOT NULL COLLATE NOCASE,
    PRIMARY KEY (store, machine, group_name),
    FOREIGN KEY (store, machine) REFERENCES machine (store, name) ON DELETE CASCADE
) STRICT;

-- What we present.
CREATE TABLE certificate (
    name       TEXT PRIMARY KEY,
    chain      TEXT NOT NULL,    -- PEM, its own certificate first; empty while a signing request waits
    key        BLOB NOT NULL,    -- PKCS#8, sealed
    stapled    BLOB,             -- OCSP response
    changed_at INTEGER NOT NULL
) STRICT;

-- Whom we believe.
CREATE TABLE trust (
    name        TEXT PRIMARY KEY,
    authorities TEXT NOT NULL,   -- PEM
    crls        TEXT NOT NULL,   -- PEM
    crl_url     TEXT,            -- where a newer list is fetched
    changed_at  INTEGER NOT NULL
) STRICT;
