-- A machine's next password is written here before the domain has it.
ALTER TABLE store ADD COLUMN next_secret BLOB;
