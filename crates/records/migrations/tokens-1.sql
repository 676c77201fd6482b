-- What this node saw of tokens.

CREATE TABLE token_use (
    hash   BLOB PRIMARY KEY, -- SHA-256 of the token
    at     INTEGER NOT NULL, -- milliseconds since 1970
    source TEXT NOT NULL     -- the address that it came from
) STRICT;
