-- An edition has the files that its main.writ includes (a JSON object of texts by path), why it was made,
-- and which edition it was made from. A draft is kept beside the log: it changes nothing.
ALTER TABLE edition ADD COLUMN included TEXT NOT NULL DEFAULT '{}';
ALTER TABLE edition ADD COLUMN note TEXT NOT NULL DEFAULT '';
ALTER TABLE edition ADD COLUMN made_from INTEGER;
CREATE TABLE draft (
    author     TEXT PRIMARY KEY COLLATE NOCASE,
    source     TEXT NOT NULL,
    included   TEXT NOT NULL,
    made_from  INTEGER NOT NULL, -- the edition
    changed_at INTEGER NOT NULL, -- milliseconds since 1970
    version    INTEGER NOT NULL  -- of the draft, from 1
) STRICT;
