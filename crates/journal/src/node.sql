-- What belongs to the node itself, form 2.

CREATE TABLE node (
    id TEXT NOT NULL PRIMARY KEY
) STRICT;

-- Machines that proved themselves, by the address that they did it from.
CREATE TABLE machine (
    mac           BLOB NOT NULL PRIMARY KEY CHECK (length(mac) = 6),
    name          TEXT NOT NULL,
    proof         TEXT NOT NULL,
    at            INTEGER NOT NULL, -- milliseconds since 1970
    password_mark INTEGER NOT NULL,
    chain         TEXT NOT NULL,    -- PEM, its own certificate first
    store         TEXT NOT NULL,    -- that has it
    bound         INTEGER NOT NULL, -- whether tunnel and inner method were proved to belong together
    trust         TEXT              -- by which its certificate was taken
) STRICT, WITHOUT ROWID;

CREATE INDEX machine_at ON machine (at)
