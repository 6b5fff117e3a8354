-- A call is looked for by its number; those that failed are looked for among many that did not.
CREATE INDEX call_by_id ON call (id);
CREATE INDEX call_failed ON call (at) WHERE result <> 'answered';
-- Figures of each minute, so that an overview need not read the calls: counts, and how many took how long (see latency_bucket).
CREATE TABLE call_minute (
    minute INTEGER NOT NULL,       -- since 1970
    environment TEXT NOT NULL,
    service TEXT NOT NULL,
    calls INTEGER NOT NULL,
    faults INTEGER NOT NULL,
    PRIMARY KEY (minute, environment, service)
) STRICT, WITHOUT ROWID;
CREATE TABLE call_latency (
    minute INTEGER NOT NULL,
    environment TEXT NOT NULL,
    service TEXT NOT NULL,
    bucket INTEGER NOT NULL,
    calls INTEGER NOT NULL,
    PRIMARY KEY (minute, environment, service, bucket)
) STRICT, WITHOUT ROWID;
-- What the overview still shows of the calls before: the last two hours.
INSERT INTO call_minute SELECT CAST(at / 60 AS INTEGER), environment, service, COUNT(*), SUM(result <> 'answered')
    FROM call WHERE at >= (SELECT MAX(at) FROM call) - 7200 GROUP BY 1, 2, 3;
INSERT INTO call_latency SELECT CAST(at / 60 AS INTEGER), environment, service, latency_bucket(micros), COUNT(*)
    FROM call WHERE at >= (SELECT MAX(at) FROM call) - 7200 GROUP BY 1, 2, 3, 4;
