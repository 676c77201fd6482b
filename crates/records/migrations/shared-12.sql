-- A secret that was changed counts beside the new one for a while.
ALTER TABLE nas ADD COLUMN former_secret BLOB;
ALTER TABLE nas ADD COLUMN former_since INTEGER;
ALTER TABLE nas ADD COLUMN former_until INTEGER;
