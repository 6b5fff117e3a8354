-- Packages that were taken in or kept to be used again, and which definitions came out of them.
CREATE TABLE package (
    name TEXT NOT NULL,
    version TEXT NOT NULL,
    made TEXT NOT NULL,             -- the day on which it was made
    origin TEXT NOT NULL,
    description TEXT NOT NULL,
    content BLOB NOT NULL,          -- the zip as it came
    kept_at TEXT NOT NULL,
    author TEXT NOT NULL,
    PRIMARY KEY (name, version)
) STRICT;
CREATE TABLE package_part (
    kind TEXT NOT NULL,
    name TEXT NOT NULL,
    package TEXT NOT NULL,
    version TEXT NOT NULL,
    digest TEXT NOT NULL,           -- of its text as it was then
    taken_at TEXT NOT NULL,
    author TEXT NOT NULL,
    PRIMARY KEY (kind, name)
) STRICT, WITHOUT ROWID;
