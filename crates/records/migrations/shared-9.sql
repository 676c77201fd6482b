-- Whether replies to logins of administrators carry the Class by which accounting finds them.

ALTER TABLE nas ADD COLUMN class_at_login INTEGER NOT NULL DEFAULT 0;
