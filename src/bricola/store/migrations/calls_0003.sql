-- The screen that a call stopped at: its title, and its rows as text. Only few calls have one.
CREATE TABLE call_picture (call TEXT PRIMARY KEY, environment TEXT NOT NULL, at REAL NOT NULL, title TEXT NOT NULL, rows TEXT NOT NULL);
CREATE INDEX call_picture_age ON call_picture (environment, at);
