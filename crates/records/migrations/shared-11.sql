-- Every record says which command changed it last; devices have one number for store and
-- address; administrators have roles and sessions.

ALTER TABLE nas         ADD COLUMN revision INTEGER NOT NULL DEFAULT 0;
ALTER TABLE certificate ADD COLUMN revision INTEGER NOT NULL DEFAULT 0;
ALTER TABLE trust       ADD COLUMN revision INTEGER NOT NULL DEFAULT 0;
ALTER TABLE secret      ADD COLUMN revision INTEGER NOT NULL DEFAULT 0;
ALTER TABLE language    ADD COLUMN revision INTEGER NOT NULL DEFAULT 0;
ALTER TABLE person      ADD COLUMN engineers_only INTEGER NOT NULL DEFAULT 0;
ALTER TABLE person      ADD COLUMN note TEXT NOT NULL DEFAULT '';
ALTER TABLE person      ADD COLUMN revision INTEGER NOT NULL DEFAULT 0;
ALTER TABLE machine     ADD COLUMN note TEXT NOT NULL DEFAULT '';
ALTER TABLE machine     ADD COLUMN revision INTEGER NOT NULL DEFAULT 0;

CREATE TABLE store_now (
    number   INTEGER PRIMARY KEY,
    name     TEXT NOT NULL UNIQUE,
    kind     TEXT NOT NULL CHECK (kind IN ('people', 'devices')),
    revision INTEGER NOT NULL DEFAULT 0
) STRICT;
INSERT INTO store_now (name, kind) SELECT name, kind FROM store ORDER BY name;
DROP TABLE store;
ALTER TABLE store_now RENAME TO store;

-- What a decision needs stands first: a start reads that far into a row.
CREATE TABLE device_now (
    id         INTEGER PRIMARY KEY, -- the number of the store in the upper 16 bits, the address in the lower 48
    groups     TEXT NOT NULL,       -- a JSON array
    barred     INTEGER NOT NULL,
    expires    INTEGER,             -- milliseconds since 1970
    title      TEXT NOT NULL,
    owner      TEXT NOT NULL,
    note       TEXT NOT NULL,
    barred_why TEXT NOT NULL,
    barred_by  TEXT NOT NULL,
    barred_at  INTEGER NOT NULL,    -- milliseconds since 1970
    revision   INTEGER NOT NULL
) STRICT;
INSERT INTO device_now
SELECT number << 48 | mac_number(mac), groups, barred, NULL, title, '', '', '', '', 0, 0
FROM device JOIN store ON store.name = device.store;
DROP TABLE device;
ALTER TABLE device_now RENAME TO device;

ALTER TABLE administrator ADD COLUMN role TEXT NOT NULL DEFAULT 'engineer';
ALTER TABLE administrator ADD COLUMN disabled INTEGER NOT NULL DEFAULT 0;
ALTER TABLE administrator ADD COLUMN expires INTEGER;    -- milliseconds since 1970
ALTER TABLE administrator ADD COLUMN second_factor BLOB; -- sealed
ALTER TABLE administrator ADD COLUMN last_step INTEGER NOT NULL DEFAULT 0; -- no code of before counts again
ALTER TABLE administrator ADD COLUMN recovery TEXT NOT NULL DEFAULT '[]';  -- hashes of recovery codes, a JSON array
ALTER TABLE administrator ADD COLUMN revision INTEGER NOT NULL DEFAULT 0;

ALTER TABLE token ADD COLUMN name TEXT NOT NULL DEFAULT '';
ALTER TABLE token ADD COLUMN role TEXT NOT NULL DEFAULT 'engineer';
ALTER TABLE token ADD COLUMN expires INTEGER; -- milliseconds since 1970

CREATE TABLE session (
    hash          BLOB PRIMARY KEY, -- SHA-256 of what the cookie says
    administrator TEXT NOT NULL REFERENCES administrator (key) ON DELETE CASCADE,
    created_at    INTEGER NOT NULL,
    ends          INTEGER NOT NULL  -- milliseconds since 1970
) STRICT;
CREATE INDEX session_of ON session (administrator, created_at);

-- Commands say from where they came, and each is chained to the one before.
ALTER TABLE command ADD COLUMN source  TEXT NOT NULL DEFAULT '';
ALTER TABLE command ADD COLUMN what    TEXT NOT NULL DEFAULT '';
ALTER TABLE command ADD COLUMN subject TEXT NOT NULL DEFAULT '';
ALTER TABLE command ADD COLUMN told    TEXT; -- what is chained in place of texts with secrets
ALTER TABLE command ADD COLUMN chain   BLOB; -- SHA-256; none until the service chained it

-- What was a command of its own for NASes and administrators is one for every kind.
UPDATE command SET command = json_set(command, '$.command', json_object('add',
    json_object('nases', json_array(json_extract(command, '$.command.add_nas')))))
WHERE json_type(command, '$.command.add_nas') = 'object';
UPDATE command SET command = json_set(command, '$.command', json_object('change', json_object(
    'was', json_array(json_object('nas', json_extract(command, '$.command.change_nas.was'))),
    'rows', json_object('nases', json_array(json_extract(command, '$.command.change_nas.row'))))))
WHERE json_type(command, '$.command.change_nas') = 'object';
UPDATE command SET command = json_set(command, '$.command', json_object('remove',
    json_array(json_object('nas', json_extract(command, '$.command.remove_nas.name')))))
WHERE json_type(command, '$.command.remove_nas') = 'object';
UPDATE command SET command = json_set(command, '$.command', json_object('reveal',
    json_object('nas', json_extract(command, '$.command.reveal_nas_secret.name'))))
WHERE json_type(command, '$.command.reveal_nas_secret') = 'object';
UPDATE command SET command = json_set(command, '$.command', json_object('change', json_object(
    'was', json_array(),
    'rows', json_object('administrators', json_array(json_extract(command, '$.command.set_administrator'))))))
WHERE json_type(command, '$.command.set_administrator') = 'object';
UPDATE command SET outcome = json_object('conflict', json_object('exists',
    json_object('nas', json_extract(outcome, '$.conflict.nas_exists'))))
WHERE json_type(outcome, '$.conflict.nas_exists') = 'text';
UPDATE command SET outcome = json_object('not_found', json_object('record',
    json_object('nas', json_extract(outcome, '$.not_found.nas'))))
WHERE json_type(outcome, '$.not_found.nas') = 'text';
UPDATE command SET outcome = json_object('not_found', json_object('record',
    json_object('administrator', json_extract(outcome, '$.not_found.administrator'))))
WHERE json_type(outcome, '$.not_found.administrator') = 'text';
UPDATE command SET outcome = json_object('not_found', json_object('record',
    json_object('store', json_extract(outcome, '$.not_found.store'))))
WHERE json_type(outcome, '$.not_found.store') = 'text';
