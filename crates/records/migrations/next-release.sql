-- What the next release would bring, to try how it comes: there is none yet.

ALTER TABLE nas ADD COLUMN more TEXT NOT NULL DEFAULT '';
