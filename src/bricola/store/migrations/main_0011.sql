-- Runs of test suites, and what became of each case.
CREATE TABLE test_run (
    number INTEGER PRIMARY KEY,
    environment TEXT NOT NULL,
    author TEXT NOT NULL,
    begun_at REAL NOT NULL,          -- seconds since 1970
    ended_at REAL,                   -- NULL while it runs
    state TEXT NOT NULL,             -- running, ended, stopped, broken off
    purpose TEXT NOT NULL,           -- asked for, or the gate of which deployment
    suites TEXT NOT NULL,            -- JSON: their names
    releases TEXT NOT NULL,          -- JSON: service -> the release that answered
    texts TEXT NOT NULL,             -- JSON: suite -> the digest of its text
    asked TEXT NOT NULL,             -- JSON: what was asked for
    total INTEGER NOT NULL DEFAULT 0, -- cases that it has
    passed INTEGER NOT NULL DEFAULT 0,
    failed INTEGER NOT NULL DEFAULT 0,
    left_out INTEGER NOT NULL DEFAULT 0,
    warned INTEGER NOT NULL DEFAULT 0
) STRICT;
CREATE INDEX test_run_environment ON test_run (environment, number);
CREATE TABLE test_result (
    run INTEGER NOT NULL REFERENCES test_run (number) ON DELETE CASCADE,
    number INTEGER NOT NULL,
    suite TEXT NOT NULL,
    name TEXT NOT NULL,
    part TEXT NOT NULL,              -- case, set-up, clean-up
    outcome TEXT NOT NULL,
    body TEXT NOT NULL,              -- JSON: all of it
    PRIMARY KEY (run, number)
) STRICT, WITHOUT ROWID;
