CREATE TABLE definition_revision (
    id INTEGER PRIMARY KEY,
    kind TEXT NOT NULL,
    name TEXT NOT NULL,
    path TEXT NOT NULL,
    text TEXT NOT NULL,            -- canonical YAML; '' when this revision removes the definition
    author TEXT NOT NULL,
    at TEXT NOT NULL               -- ISO 8601, UTC
) STRICT;
CREATE INDEX definition_revision_by_name ON definition_revision (kind, name, id);

CREATE TABLE release (
    service TEXT NOT NULL,
    number INTEGER NOT NULL,
    digest TEXT NOT NULL,          -- SHA-256 over the canonical texts, hexadecimal
    bundle TEXT NOT NULL,          -- JSON object: path -> canonical YAML
    notes TEXT NOT NULL,
    author TEXT NOT NULL,
    at TEXT NOT NULL,
    PRIMARY KEY (service, number)
) STRICT;

CREATE TABLE deployment (
    id INTEGER PRIMARY KEY,
    environment TEXT NOT NULL,
    service TEXT NOT NULL,
    release INTEGER NOT NULL,
    author TEXT NOT NULL,
    at TEXT NOT NULL,
    ended_at TEXT,
    ended_by TEXT,
    FOREIGN KEY (service, release) REFERENCES release (service, number)
) STRICT;
CREATE UNIQUE INDEX deployment_in_force ON deployment (environment, service) WHERE ended_at IS NULL;

CREATE TABLE user (
    name TEXT PRIMARY KEY,
    password_hash TEXT NOT NULL,   -- argon2id, in the encoded form
    role TEXT NOT NULL CHECK (role IN ('viewer', 'operator', 'integrator', 'admin')),
    created_at TEXT NOT NULL
) STRICT;

CREATE TABLE user_session (
    digest BLOB PRIMARY KEY,       -- SHA-256 of the cookie or token
    user TEXT NOT NULL REFERENCES user (name) ON DELETE CASCADE,
    label TEXT NOT NULL,           -- 'console', or what a token is for
    created_at TEXT NOT NULL,
    expires_at TEXT NOT NULL
) STRICT;

CREATE TABLE caller (
    name TEXT PRIMARY KEY,
    description TEXT NOT NULL,
    created_at TEXT NOT NULL
) STRICT;

CREATE TABLE caller_role (
    caller TEXT NOT NULL REFERENCES caller (name) ON DELETE CASCADE,
    role TEXT NOT NULL,
    PRIMARY KEY (caller, role)
) STRICT;

CREATE TABLE caller_token (
    digest BLOB PRIMARY KEY,       -- SHA-256 of the token
    caller TEXT NOT NULL REFERENCES caller (name) ON DELETE CASCADE,
    prefix TEXT NOT NULL,          -- its first characters, so that people can tell tokens apart
    created_at TEXT NOT NULL
) STRICT;
