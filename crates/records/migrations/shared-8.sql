-- Files of the user's own about how equipment speaks, and secrets that replies carry.

CREATE TABLE language (
    kind TEXT NOT NULL CHECK (kind IN ('dictionary', 'dialect')),
    key  TEXT NOT NULL, -- the name without regard to case
    name TEXT NOT NULL,
    text TEXT NOT NULL, -- TOML
    PRIMARY KEY (kind, key)
) STRICT;

CREATE TABLE secret (
    key   TEXT PRIMARY KEY, -- the name without regard to case
    name  TEXT NOT NULL,
    value BLOB NOT NULL     -- sealed
) STRICT;
