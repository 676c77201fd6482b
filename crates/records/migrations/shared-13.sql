-- What people keep of devices beside what every device has, as a JSON object; and which of it
-- an edition was checked with.
ALTER TABLE device ADD COLUMN attributes TEXT NOT NULL DEFAULT '{}';
ALTER TABLE basis ADD COLUMN device_attributes TEXT NOT NULL DEFAULT '[]';

CREATE TABLE language_13 (
    kind     TEXT NOT NULL CHECK (kind IN ('dictionary', 'dialect', 'attribute')),
    key      TEXT NOT NULL,
    name     TEXT NOT NULL,
    text     TEXT NOT NULL,
    revision INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (kind, key)
) STRICT;
INSERT INTO language_13 (kind, key, name, text, revision) SELECT kind, key, name, text, revision FROM language;
DROP TABLE language;
ALTER TABLE language_13 RENAME TO language;
