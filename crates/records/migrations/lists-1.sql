-- Revocation lists that this node fetched: what it observed, not what somebody configured.

CREATE TABLE list (
    trust      TEXT NOT NULL PRIMARY KEY,
    der        BLOB NOT NULL,
    fetched_at INTEGER NOT NULL -- milliseconds since 1970
) STRICT;
