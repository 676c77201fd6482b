-- Files of the user's own about how equipment speaks.

CREATE TABLE language (
    kind TEXT NOT NULL CHECK (kind IN ('dictionary', 'dialect')),
    key  TEXT NOT NULL, -- the name without regard to case
    name TEXT NOT NULL,
    text TEXT NOT NULL, -- TOML
    PRIMARY KEY (kind, key)
) STRICT;
