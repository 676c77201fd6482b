-- Groups and sites are names that records have in common; what people should know of one is
-- kept here. One that nobody has yet may stand here already.
CREATE TABLE common_name (
    kind TEXT NOT NULL,
    key TEXT NOT NULL,
    name TEXT NOT NULL,
    note TEXT NOT NULL,
    revision INTEGER NOT NULL,
    PRIMARY KEY (kind, key)
) STRICT, WITHOUT ROWID;
