-- What a responder says of our own certificate is fetched by each node, not
-- configured; which responder is asked about others' can be.

ALTER TABLE certificate DROP COLUMN stapled;

ALTER TABLE trust ADD COLUMN ocsp_url TEXT; -- asked in place of the responders that certificates name
