-- What every step of a call took and gave, as JSON. Which calls leave one, the policy of their environment says.
CREATE TABLE call_trace (call TEXT PRIMARY KEY, environment TEXT NOT NULL, at REAL NOT NULL, body TEXT NOT NULL);
CREATE INDEX call_trace_age ON call_trace (environment, at);
