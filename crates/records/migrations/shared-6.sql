-- A device is a device everywhere. A table whose check changes is made anew.

ALTER TABLE endpoint RENAME TO device;
ALTER TABLE endpoint_group RENAME TO device_group;

CREATE TABLE store_now (
    name TEXT PRIMARY KEY,
    kind TEXT NOT NULL CHECK (kind IN ('people', 'devices'))
) STRICT;
INSERT INTO store_now SELECT name, CASE kind WHEN 'endpoints' THEN 'devices' ELSE kind END FROM store;
DROP TABLE store;
ALTER TABLE store_now RENAME TO store;
