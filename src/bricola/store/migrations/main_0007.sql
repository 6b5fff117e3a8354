-- Where a credential belongs: an admin said that it may be presented at this address of this engine in this environment.
CREATE TABLE credential_place (
    credential TEXT NOT NULL, environment TEXT NOT NULL, engine TEXT NOT NULL, address TEXT NOT NULL,
    author TEXT NOT NULL, at TEXT NOT NULL,
    PRIMARY KEY (credential, environment, engine, address)
) STRICT, WITHOUT ROWID;
