-- Writes that came with a request id, so that a repeated one gets the first answer.
CREATE TABLE request (
    environment TEXT NOT NULL,
    service TEXT NOT NULL,         -- with its major version, as in addresses
    operation TEXT NOT NULL,
    caller TEXT NOT NULL,
    id TEXT NOT NULL,              -- the caller's
    digest TEXT NOT NULL,          -- SHA-256 over the input, hexadecimal
    call TEXT NOT NULL,            -- the id of the first call
    answer TEXT NOT NULL,          -- JSON; '' until it is known
    at REAL NOT NULL,              -- seconds since 1970
    expires REAL NOT NULL,
    PRIMARY KEY (environment, service, operation, caller, id)
) STRICT, WITHOUT ROWID;
CREATE INDEX request_by_expiry ON request (expires);
