-- One file of the journal, form 1.

CREATE TABLE entry (
    id       BLOB NOT NULL PRIMARY KEY, -- ULID
    outcome  INTEGER NOT NULL,          -- see Outcome
    search   TEXT NOT NULL,             -- what is searched, in lower case
    evidence BLOB NOT NULL              -- its first byte is the version of its form
) STRICT;

-- How many, by the hour.
CREATE TABLE tally (
    hour    INTEGER NOT NULL, -- hours since 1970
    edition INTEGER NOT NULL,
    gate    INTEGER NOT NULL, -- its place in the edition; -1 where there is none
    rule    INTEGER NOT NULL,
    grants  INTEGER NOT NULL, -- the combination, by its place in the edition
    outcome INTEGER NOT NULL,
    cause   TEXT NOT NULL,
    nas     TEXT NOT NULL,    -- empty where it is not known, or not told apart any more
    number  INTEGER NOT NULL,
    PRIMARY KEY (hour, edition, gate, rule, grants, outcome, cause, nas)
) STRICT, WITHOUT ROWID;

-- The newest entry of each device, person, machine and NAS.
CREATE TABLE newest (
    kind INTEGER NOT NULL, -- see NewestKind
    name TEXT NOT NULL,
    id   BLOB NOT NULL,
    PRIMARY KEY (kind, name)
) STRICT, WITHOUT ROWID
