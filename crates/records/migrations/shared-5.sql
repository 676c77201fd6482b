-- An edition is what it is with the dictionaries and dialects that it was checked with.

CREATE TABLE basis (
    hash         BLOB NOT NULL PRIMARY KEY, -- SHA-256
    dictionaries TEXT NOT NULL,             -- JSON: [[file, text], ...]
    dialects     TEXT NOT NULL              -- likewise
) STRICT;

ALTER TABLE edition ADD COLUMN basis BLOB REFERENCES basis (hash); -- none in editions of before
