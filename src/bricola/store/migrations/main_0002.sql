ALTER TABLE release ADD COLUMN version INTEGER NOT NULL DEFAULT 1;    -- major version of the service
ALTER TABLE release ADD COLUMN consent TEXT NOT NULL DEFAULT '';      -- why a breaking change was let through

ALTER TABLE deployment ADD COLUMN version INTEGER NOT NULL DEFAULT 1;
ALTER TABLE deployment ADD COLUMN share INTEGER NOT NULL DEFAULT 100 CHECK (share BETWEEN 1 AND 100);  -- percent of calls
ALTER TABLE deployment ADD COLUMN how TEXT NOT NULL DEFAULT 'deploy'; -- deploy, promote, roll back
ALTER TABLE deployment ADD COLUMN reason TEXT NOT NULL DEFAULT '';    -- of a consent
DROP INDEX deployment_in_force;
CREATE UNIQUE INDEX deployment_in_force ON deployment (environment, service, version, release) WHERE ended_at IS NULL;

CREATE TABLE retirement (
    environment TEXT NOT NULL,
    service TEXT NOT NULL,
    version INTEGER NOT NULL,
    ends_at TEXT NOT NULL,         -- from then on calls are refused
    words TEXT NOT NULL,           -- for callers: what to use instead
    author TEXT NOT NULL,
    at TEXT NOT NULL,
    PRIMARY KEY (environment, service, version)
) STRICT;

ALTER TABLE caller ADD COLUMN networks TEXT NOT NULL DEFAULT '[]';    -- JSON list of networks in CIDR form; empty: any
ALTER TABLE caller ADD COLUMN per_minute INTEGER;                     -- NULL: no limit
ALTER TABLE caller ADD COLUMN parallel INTEGER;
ALTER TABLE caller_token ADD COLUMN expires_at TEXT;
ALTER TABLE caller_token ADD COLUMN last_used_at TEXT;

CREATE TABLE credential (
    name TEXT PRIMARY KEY,
    kind TEXT NOT NULL CHECK (kind IN ('password', 'token', 'certificate')),
    description TEXT NOT NULL,
    created_at TEXT NOT NULL
) STRICT;

CREATE TABLE credential_version (
    id INTEGER PRIMARY KEY,
    credential TEXT NOT NULL REFERENCES credential (name) ON DELETE CASCADE,
    user TEXT NOT NULL,
    sealed BLOB NOT NULL,          -- Fernet token of the password, token or private key
    certificate TEXT NOT NULL,     -- PEM; public
    expires_at TEXT,               -- of the secret itself
    ends_at TEXT,                  -- when a rotation's overlap is over
    author TEXT NOT NULL,
    created_at TEXT NOT NULL,
    last_used_at TEXT
) STRICT;
CREATE INDEX credential_version_by_name ON credential_version (credential, id);

CREATE TABLE fact (
    name TEXT PRIMARY KEY,         -- 'sealing-check': a known text, sealed, to tell a wrong key at the start
    value BLOB NOT NULL
) STRICT;

CREATE TABLE audit (
    id INTEGER PRIMARY KEY,
    at TEXT NOT NULL,
    who TEXT NOT NULL,
    action TEXT NOT NULL,
    subject TEXT NOT NULL,
    before TEXT NOT NULL,          -- JSON; never a secret
    after TEXT NOT NULL
) STRICT;
CREATE INDEX audit_by_subject ON audit (subject, id);
