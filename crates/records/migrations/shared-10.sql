-- Equipment has several addresses and blocks, tags and a note.

CREATE TABLE nas_now (
    key                           TEXT PRIMARY KEY,
    name                          TEXT NOT NULL,
    networks                      TEXT NOT NULL, -- a JSON array of addresses and blocks
    kind                          TEXT NOT NULL,
    site                          TEXT NOT NULL,
    tags                          TEXT NOT NULL, -- a JSON array
    note                          TEXT NOT NULL,
    dialect                       TEXT NOT NULL,
    secret                        BLOB NOT NULL, -- sealed
    require_message_authenticator INTEGER NOT NULL,
    class_at_login                INTEGER NOT NULL
) STRICT;
INSERT INTO nas_now
SELECT key, name, json_array(network), kind, site, '[]', '', dialect, secret, require_message_authenticator, class_at_login
FROM nas;
DROP TABLE nas;
ALTER TABLE nas_now RENAME TO nas;
