-- Certificates that are no authorities' vouch for nobody unless somebody said so.

ALTER TABLE trust ADD COLUMN whatever INTEGER NOT NULL DEFAULT 0;
