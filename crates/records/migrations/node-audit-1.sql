-- What this node saw of administrators: who signed in or could not, and what was tried. It changes nothing that is
-- configured, so that no other node waits for it.

CREATE TABLE note (
    number  INTEGER PRIMARY KEY, -- from 1, without a hole
    at      INTEGER NOT NULL,    -- milliseconds since 1970
    author  TEXT NOT NULL,
    source  TEXT NOT NULL,
    what    TEXT NOT NULL,
    subject TEXT NOT NULL,
    chain   BLOB NOT NULL CHECK (length(chain) = 32) -- SHA-256 over it and the one before
) STRICT;
