-- An engineer says that somebody, or whoever is in a group, is ordinary: the helpdesk may set their password though
-- a rule could make an administrator of equipment of whoever comes so. A token that another one made ends with it.
ALTER TABLE person ADD COLUMN ordinary INTEGER NOT NULL DEFAULT 0;
ALTER TABLE common_name ADD COLUMN ordinary INTEGER NOT NULL DEFAULT 0;
ALTER TABLE token ADD COLUMN parent BLOB REFERENCES token (hash) ON DELETE CASCADE;
-- Which NAS has a network, so that another one with it is found without looking at all of them.
CREATE TABLE nas_network (
    network TEXT PRIMARY KEY,
    nas     TEXT NOT NULL REFERENCES nas (key) ON DELETE CASCADE
) STRICT;
CREATE INDEX nas_network_nas ON nas_network (nas);
INSERT OR IGNORE INTO nas_network SELECT network.value, nas.key FROM nas, json_each(nas.networks) AS network;
