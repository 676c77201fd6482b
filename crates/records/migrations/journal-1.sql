-- What this node observed. Local: it carries the node's id, and is merged when read.

CREATE TABLE node (
    id TEXT PRIMARY KEY
) STRICT;

CREATE TABLE decision (
    id      BLOB NOT NULL UNIQUE, -- ULID
    verdict TEXT NOT NULL,
    search  TEXT NOT NULL,        -- the sentence in lower case
    record  TEXT NOT NULL         -- JSON
) STRICT;

CREATE TABLE unheard (
    id     BLOB NOT NULL UNIQUE,
    search TEXT NOT NULL,
    record TEXT NOT NULL
) STRICT;
