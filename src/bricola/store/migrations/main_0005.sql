-- How often each subject was changed, so that whoever keeps something in memory can tell whether it is the newest.
CREATE TABLE revision (topic TEXT PRIMARY KEY, number INTEGER NOT NULL) STRICT, WITHOUT ROWID;
