-- One file of accounting, form 1.

CREATE TABLE report (
    id       BLOB NOT NULL PRIMARY KEY, -- ULID
    event    BLOB NOT NULL,             -- what it is known again by when it is sent again
    happened INTEGER NOT NULL,          -- milliseconds since 1970, as far as it says
    decision BLOB,                      -- the decision behind it, where it was found
    search   TEXT NOT NULL,             -- what is searched, in lower case
    record   BLOB NOT NULL              -- its first byte is the version of its form
) STRICT;

CREATE INDEX report_of_decision ON report (decision) WHERE decision IS NOT NULL
