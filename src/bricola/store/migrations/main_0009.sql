-- Jobs: calls that are answered at once and done later. What they take and give is sealed like a secret.
CREATE TABLE job (
    id TEXT PRIMARY KEY,
    environment TEXT NOT NULL,
    service TEXT NOT NULL,
    segment TEXT NOT NULL,          -- of the address
    release INTEGER NOT NULL,
    operation TEXT NOT NULL,
    source TEXT NOT NULL,           -- what runs
    caller TEXT NOT NULL,
    roles TEXT NOT NULL,            -- JSON
    accepted_at REAL NOT NULL,      -- moments are seconds since 1970
    ends_at REAL NOT NULL,
    given BLOB NOT NULL,            -- sealed
    state TEXT NOT NULL,
    attempt INTEGER NOT NULL,
    worker TEXT NOT NULL,           -- the process that has it, '' for none
    steps INTEGER NOT NULL,         -- that are done
    step TEXT NOT NULL,             -- that began last
    changed_at REAL NOT NULL,
    words TEXT NOT NULL,
    outcome BLOB,                   -- sealed
    cancelled TEXT NOT NULL,        -- who wants its end
    request TEXT NOT NULL,          -- the mark of the request that it was accepted for, '' for none
    reply_to TEXT NOT NULL,
    message_id TEXT NOT NULL,
    soap TEXT NOT NULL,
    told TEXT NOT NULL
) STRICT;
CREATE UNIQUE INDEX job_request ON job (request) WHERE request != '';
CREATE INDEX job_state ON job (state, accepted_at);
CREATE INDEX job_accepted ON job (accepted_at);

-- What each step of a job gave, in the order in which that became known.
CREATE TABLE job_step (
    job TEXT NOT NULL REFERENCES job (id) ON DELETE CASCADE,
    key TEXT NOT NULL,              -- where it stands, with the index of every loop around it
    number INTEGER NOT NULL,
    mark TEXT NOT NULL,             -- began, done, failed
    at REAL NOT NULL,
    attempt INTEGER NOT NULL,
    held BLOB,                      -- sealed
    PRIMARY KEY (job, key)
) STRICT, WITHOUT ROWID;
