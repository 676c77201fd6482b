-- What people configure. Times are milliseconds since 1970; `key` is a name without regard to case; `revision` is the
-- command that changed the record last.

CREATE TABLE setting (
    name  TEXT PRIMARY KEY,
    value BLOB NOT NULL
) STRICT;

CREATE TABLE store (
    number      INTEGER PRIMARY KEY,
    name        TEXT NOT NULL UNIQUE,
    kind        TEXT NOT NULL CHECK (kind IN ('people', 'devices', 'directory', 'http')),
    settings    TEXT NOT NULL, -- JSON; empty for those that live here
    secret      BLOB,          -- sealed
    next_secret BLOB,          -- sealed; while a machine account gets another
    revision    INTEGER NOT NULL
) STRICT;

CREATE TABLE nas (
    key                           TEXT PRIMARY KEY,
    name                          TEXT NOT NULL,
    networks                      TEXT NOT NULL, -- a JSON array of addresses and blocks
    kind                          TEXT NOT NULL,
    site                          TEXT NOT NULL,
    tags                          TEXT NOT NULL, -- a JSON array
    note                          TEXT NOT NULL,
    dialect                       TEXT NOT NULL,
    secret                        BLOB NOT NULL, -- sealed
    former_secret                 BLOB,          -- sealed
    former_since                  INTEGER,
    former_until                  INTEGER,
    require_message_authenticator INTEGER NOT NULL,
    class_at_login                INTEGER NOT NULL,
    revision                      INTEGER NOT NULL
) STRICT;

-- No two NASes have the same address or block.
CREATE TABLE nas_network (
    network TEXT PRIMARY KEY,
    nas     TEXT NOT NULL REFERENCES nas (key) ON DELETE CASCADE
) STRICT;
CREATE INDEX nas_network_nas ON nas_network (nas);

CREATE TABLE person (
    store          TEXT NOT NULL REFERENCES store (name),
    key            TEXT NOT NULL,
    name           TEXT NOT NULL,
    password_hash  BLOB NOT NULL, -- Argon2id in PHC form, sealed
    recoverable    BLOB,          -- sealed; only where CHAP is wanted
    nt_hash        BLOB,          -- sealed; only where MS-CHAP is wanted
    groups         TEXT NOT NULL, -- a JSON array
    disabled       INTEGER NOT NULL,
    expires        INTEGER,
    engineers_only INTEGER NOT NULL,
    ordinary       INTEGER NOT NULL,
    note           TEXT NOT NULL,
    revision       INTEGER NOT NULL,
    PRIMARY KEY (store, key)
) STRICT;

CREATE TABLE machine (
    store         TEXT NOT NULL REFERENCES store (name),
    key           TEXT NOT NULL,
    name          TEXT NOT NULL,
    password_hash BLOB,          -- sealed; none where it has only certificates
    nt_hash       BLOB,          -- sealed
    groups        TEXT NOT NULL, -- a JSON array
    disabled      INTEGER NOT NULL,
    expires       INTEGER,
    note          TEXT NOT NULL,
    revision      INTEGER NOT NULL,
    PRIMARY KEY (store, key)
) STRICT;

CREATE TABLE device (
    id         INTEGER PRIMARY KEY, -- the number of the store in the upper 16 bits, the address in the lower 48
    groups     TEXT NOT NULL,       -- a JSON array
    barred     INTEGER NOT NULL,
    expires    INTEGER,
    title      TEXT NOT NULL,
    owner      TEXT NOT NULL,
    note       TEXT NOT NULL,
    barred_why TEXT NOT NULL,
    barred_by  TEXT NOT NULL,
    barred_at  INTEGER NOT NULL,
    attributes TEXT NOT NULL,       -- a JSON object
    revision   INTEGER NOT NULL
) STRICT;

CREATE TABLE common_name (
    kind     TEXT NOT NULL,
    key      TEXT NOT NULL,
    name     TEXT NOT NULL,
    note     TEXT NOT NULL,
    ordinary INTEGER NOT NULL,
    revision INTEGER NOT NULL,
    PRIMARY KEY (kind, key)
) STRICT, WITHOUT ROWID;

CREATE TABLE certificate (
    name     TEXT PRIMARY KEY,
    chain    TEXT NOT NULL, -- PEM, its own certificate first; empty while a signing request waits
    key      BLOB NOT NULL, -- PKCS#8, sealed
    revision INTEGER NOT NULL
) STRICT;

CREATE TABLE trust (
    name        TEXT PRIMARY KEY,
    authorities TEXT NOT NULL, -- PEM
    crls        TEXT NOT NULL, -- PEM
    crl_url     TEXT,          -- where a newer list is fetched
    ocsp_url    TEXT,          -- who is asked in place of those that certificates name
    whatever    INTEGER NOT NULL,
    revision    INTEGER NOT NULL
) STRICT;

CREATE TABLE secret (
    key      TEXT PRIMARY KEY,
    name     TEXT NOT NULL,
    value    BLOB NOT NULL, -- sealed
    revision INTEGER NOT NULL
) STRICT;

CREATE TABLE language (
    kind     TEXT NOT NULL CHECK (kind IN ('dictionary', 'dialect', 'attribute')),
    key      TEXT NOT NULL,
    name     TEXT NOT NULL,
    text     TEXT NOT NULL,
    revision INTEGER NOT NULL,
    PRIMARY KEY (kind, key)
) STRICT;

-- What editions were checked with.
CREATE TABLE basis (
    hash         BLOB PRIMARY KEY, -- SHA-256
    dictionaries TEXT NOT NULL,    -- JSON: [[file, text], ...]
    dialects     TEXT NOT NULL,    -- likewise
    attributes   TEXT NOT NULL     -- likewise
) STRICT;

CREATE TABLE edition (
    number     INTEGER PRIMARY KEY,
    source     TEXT NOT NULL,
    included   TEXT NOT NULL, -- a JSON object of texts by path
    state      TEXT NOT NULL CHECK (state IN ('active', 'retired')),
    created_at INTEGER NOT NULL,
    created_by TEXT NOT NULL,
    note       TEXT NOT NULL,
    made_from  INTEGER,
    basis      BLOB NOT NULL REFERENCES basis (hash)
) STRICT;
CREATE UNIQUE INDEX one_active_edition ON edition (state) WHERE state = 'active';

CREATE TABLE draft (
    author     TEXT PRIMARY KEY COLLATE NOCASE,
    source     TEXT NOT NULL,
    included   TEXT NOT NULL,
    made_from  INTEGER NOT NULL, -- the edition
    changed_at INTEGER NOT NULL,
    version    INTEGER NOT NULL  -- of the draft, from 1
) STRICT;

CREATE TABLE administrator (
    key           TEXT PRIMARY KEY,
    name          TEXT NOT NULL,
    password_hash BLOB NOT NULL, -- Argon2id in PHC form, sealed
    created_at    INTEGER NOT NULL,
    role          TEXT NOT NULL,
    disabled      INTEGER NOT NULL,
    expires       INTEGER,
    second_factor BLOB,                         -- sealed
    last_step     INTEGER NOT NULL DEFAULT 0,   -- of its codes, the last that was shown
    recovery      TEXT NOT NULL DEFAULT '[]',   -- a JSON array of hashes
    revision      INTEGER NOT NULL
) STRICT;

CREATE TABLE token (
    hash          BLOB PRIMARY KEY, -- SHA-256 of the token
    administrator TEXT NOT NULL REFERENCES administrator (key) ON DELETE CASCADE,
    created_at    INTEGER NOT NULL,
    name          TEXT NOT NULL,
    role          TEXT NOT NULL,
    expires       INTEGER,
    parent        BLOB REFERENCES token (hash) ON DELETE CASCADE -- the one that it was made with
) STRICT;

CREATE TABLE session (
    hash          BLOB PRIMARY KEY, -- SHA-256 of what the cookie says
    administrator TEXT NOT NULL REFERENCES administrator (key) ON DELETE CASCADE,
    created_at    INTEGER NOT NULL,
    ends          INTEGER NOT NULL
) STRICT;
CREATE INDEX session_of ON session (administrator, created_at);

-- Every command in the order in which it was applied, each chained to the one before.
CREATE TABLE command (
    revision INTEGER PRIMARY KEY, -- from 1, without a hole
    id       BLOB NOT NULL UNIQUE CHECK (length(id) = 16),
    version  INTEGER NOT NULL,
    author   TEXT NOT NULL,
    source   TEXT NOT NULL,
    at       INTEGER NOT NULL,
    what     TEXT NOT NULL,
    subject  TEXT NOT NULL,
    command  TEXT NOT NULL, -- JSON; secrets sealed
    before   TEXT NOT NULL, -- JSON: the changed records as they were; secrets sealed
    outcome  TEXT NOT NULL, -- JSON
    told     TEXT,          -- command and before without their secrets, where they have some
    chain    BLOB NOT NULL CHECK (length(chain) = 32)
) STRICT;
