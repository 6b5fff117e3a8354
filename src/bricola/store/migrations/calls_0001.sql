CREATE TABLE call (
    id TEXT NOT NULL,
    at REAL NOT NULL,              -- seconds since 1970
    environment TEXT NOT NULL,
    service TEXT NOT NULL,
    release INTEGER NOT NULL,
    operation TEXT NOT NULL,
    caller TEXT NOT NULL,
    face TEXT NOT NULL,            -- soap 1.1, soap 1.2, rest
    status INTEGER NOT NULL,       -- of the HTTP answer
    micros INTEGER NOT NULL,       -- time inside the service, microseconds
    result TEXT NOT NULL,          -- answered, fault (declared), failed
    fault TEXT NOT NULL,
    message TEXT NOT NULL,
    request_bytes INTEGER NOT NULL,
    response_bytes INTEGER NOT NULL
) STRICT;
CREATE INDEX call_by_time ON call (at);
CREATE INDEX call_by_service ON call (service, environment, at);
