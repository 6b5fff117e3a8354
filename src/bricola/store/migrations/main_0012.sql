-- Where the service's own clock stands, in seconds since 1970: it goes on while the service runs, and never jumps.
CREATE TABLE own_clock (id INTEGER PRIMARY KEY CHECK (id = 1), seconds REAL NOT NULL);
