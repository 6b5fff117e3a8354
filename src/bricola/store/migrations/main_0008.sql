-- What was found when a contract of somebody else was looked at again, the last time in each environment; through which backend it is
-- followed there, '' for one that nothing is sent to.
CREATE TABLE contract_check (
    contract TEXT NOT NULL,
    backend TEXT NOT NULL,
    environment TEXT NOT NULL,
    at TEXT NOT NULL,
    outcome TEXT NOT NULL,         -- JSON
    PRIMARY KEY (contract, backend, environment)
) STRICT;
