"""The same routines on both servers: tolls of locks, in the words of each."""

POSTGRES = (
    "CREATE TABLE tariff (lock text PRIMARY KEY, rate numeric(9,2) NOT NULL CHECK (rate < 100))",
    "CREATE TABLE passage (lock text NOT NULL, number int NOT NULL, tons numeric(9,2), passed timestamp, paid boolean, PRIMARY KEY (lock, number))",
    """CREATE FUNCTION quote_toll(p_lock text, p_tons numeric, p_reduced boolean DEFAULT false) RETURNS numeric STABLE LANGUAGE plpgsql AS $$
    DECLARE r numeric; BEGIN SELECT rate INTO r FROM tariff WHERE lock = p_lock;
    IF r IS NULL THEN RAISE EXCEPTION 'There is no lock %.', p_lock USING ERRCODE = '45404'; END IF;
    RETURN round(CASE WHEN p_reduced THEN r / 2 ELSE r END * p_tons, 2); END $$""",
    """COMMENT ON FUNCTION quote_toll(text, numeric, boolean) IS 'What a passage of a lock costs'""",
    """CREATE PROCEDURE raise_rate(p_lock text, p_by numeric, INOUT p_steps int, OUT p_rate numeric, OUT p_state text) LANGUAGE plpgsql AS $$
    BEGIN UPDATE tariff SET rate = rate + p_by WHERE lock = p_lock RETURNING rate INTO p_rate; p_steps := p_steps + 1;
    IF p_by < 0 THEN RAISE EXCEPTION 'The keeper ada@larkmere.example says no to %.', p_lock; END IF;
    p_state := CASE WHEN p_rate IS NULL THEN 'nothing' WHEN p_rate > 50 THEN 'dear' ELSE 'done' END; END $$""",
    """CREATE FUNCTION log_toll(p_lock text) RETURNS int LANGUAGE plpgsql AS $$ BEGIN
    EXECUTE 'INSERT INTO passage VALUES ($1, 99, 1, NULL, true)' USING p_lock; RETURN 1; END $$""",
    """CREATE PROCEDURE close_month(p_lock text) LANGUAGE plpgsql AS $$ BEGIN INSERT INTO passage VALUES (p_lock, 50, 1, NULL, false); COMMIT;
    INSERT INTO passage VALUES (p_lock, 51, 1, NULL, false); END $$""",
    "CREATE FUNCTION wait_for(p_seconds numeric) RETURNS int STABLE LANGUAGE plpgsql AS $$ BEGIN LOOP PERFORM 1; END LOOP; END $$",
    """CREATE FUNCTION passages(p_lock text) RETURNS TABLE (number int, tons numeric, passed timestamp, paid boolean) STABLE LANGUAGE sql AS $$
    SELECT number, tons, passed, paid FROM passage WHERE lock = p_lock ORDER BY number $$""",
    """CREATE FUNCTION lock_sheet(p_lock text, OUT head refcursor, OUT lines refcursor) LANGUAGE plpgsql AS $$ BEGIN
    OPEN head FOR SELECT t.lock, t.rate FROM tariff t WHERE t.lock = p_lock;
    OPEN lines FOR SELECT number, tons FROM passage p WHERE p.lock = p_lock ORDER BY number; END $$""",
)
MARIADB = (
    'CREATE TABLE tariff ("lock" varchar(8) PRIMARY KEY, rate decimal(9,2) NOT NULL CHECK (rate < 100))',
    'CREATE TABLE passage ("lock" varchar(8) NOT NULL, number int NOT NULL, tons decimal(9,2), passed datetime, paid boolean,'
    ' PRIMARY KEY ("lock", number))',
    """CREATE FUNCTION quote_toll(p_lock varchar(8), p_tons decimal(9,2), p_reduced boolean) RETURNS decimal(9,2) READS SQL DATA
    COMMENT 'What a passage of a lock costs' BEGIN DECLARE r decimal(9,2); SELECT rate INTO r FROM tariff WHERE "lock" = p_lock;
    IF r IS NULL THEN SIGNAL SQLSTATE '45404' SET MESSAGE_TEXT = 'There is no such lock.'; END IF;
    RETURN CASE WHEN p_reduced THEN r / 2 ELSE r END * p_tons; END""",
    """CREATE PROCEDURE raise_rate(p_lock varchar(8), p_by decimal(9,2), INOUT p_steps int, OUT p_rate decimal(9,2), OUT p_state varchar(8))
    BEGIN UPDATE tariff SET rate = rate + p_by WHERE "lock" = p_lock; SELECT rate INTO p_rate FROM tariff WHERE "lock" = p_lock;
    SET p_steps = p_steps + 1;
    IF p_by < 0 THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'The keeper ada@larkmere.example says no.', MYSQL_ERRNO = 40123; END IF;
    SET p_state = CASE WHEN p_rate IS NULL THEN 'nothing' WHEN p_rate > 50 THEN 'dear' ELSE 'done' END; END""",
    """CREATE FUNCTION log_toll(p_lock varchar(8)) RETURNS int READS SQL DATA BEGIN
    INSERT INTO passage VALUES (p_lock, 99, 1, NULL, true); RETURN 1; END""",
    """CREATE PROCEDURE close_month(p_lock varchar(8)) BEGIN INSERT INTO passage VALUES (p_lock, 50, 1, NULL, false); COMMIT;
    INSERT INTO passage VALUES (p_lock, 51, 1, NULL, false); END""",
    "CREATE FUNCTION wait_for(p_seconds decimal(9,2)) RETURNS int READS SQL DATA BEGIN WHILE 1 DO SET @x = 1; END WHILE; RETURN 1; END",
    """CREATE PROCEDURE passages(p_lock varchar(8)) READS SQL DATA
    SELECT number, tons, passed, paid FROM passage WHERE "lock" = p_lock ORDER BY number""",
    """CREATE PROCEDURE lock_sheet(p_lock varchar(8)) BEGIN SELECT t."lock", t.rate FROM tariff t WHERE t."lock" = p_lock;
    SELECT number, tons FROM passage p WHERE p."lock" = p_lock ORDER BY number; END""",
)
ROUTINES = {"postgresql": POSTGRES, "mariadb": MARIADB}
ROWS = (
    "INSERT INTO tariff VALUES ('LM01', 1.25), ('LM02', 49.50)",
    "INSERT INTO passage VALUES ('LM01', 1, 120.50, '2026-11-29 10:11:12', true), ('LM01', 2, NULL, NULL, false)",
)
MARKS = 'CREATE TABLE marks (id varchar(64) PRIMARY KEY, expires bigint NOT NULL, answer text NOT NULL)'
