-- Films of screen flows, the newest of each, and what came of holding them against the live hosts.
CREATE TABLE film (
    flow TEXT PRIMARY KEY,
    environment TEXT NOT NULL,     -- where it was made
    at TEXT NOT NULL,
    author TEXT NOT NULL,
    content BLOB NOT NULL          -- JSON, compressed by zlib
) STRICT;
CREATE TABLE film_check (
    flow TEXT NOT NULL,
    environment TEXT NOT NULL,
    at TEXT NOT NULL,
    outcome TEXT NOT NULL,         -- JSON
    PRIMARY KEY (flow, environment)
) STRICT;
