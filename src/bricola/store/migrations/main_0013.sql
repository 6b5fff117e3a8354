-- Tokens that were taken away: whoever still presents one is known, and seen in the call log.
CREATE TABLE revoked_token (
    digest BLOB PRIMARY KEY,       -- SHA-256 of the token
    caller TEXT NOT NULL REFERENCES caller (name) ON DELETE CASCADE,
    prefix TEXT NOT NULL,
    revoked_at TEXT NOT NULL
) STRICT;
