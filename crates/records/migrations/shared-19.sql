-- An engineer says that somebody, or whoever is in a group, is ordinary: the helpdesk may set their password though
-- a rule could make an administrator of equipment of whoever comes so. A token that another one made ends with it.
ALTER TABLE person ADD COLUMN ordinary INTEGER NOT NULL DEFAULT 0;
ALTER TABLE common_name ADD COLUMN ordinary INTEGER NOT NULL DEFAULT 0;
ALTER TABLE token ADD COLUMN parent BLOB REFERENCES token (hash) ON DELETE CASCADE;
