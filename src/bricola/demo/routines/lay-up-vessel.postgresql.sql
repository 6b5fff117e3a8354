CREATE PROCEDURE lay_up_vessel(p_registration text, OUT p_status_before text, INOUT p_permits refcursor, p_note text DEFAULT NULL)
LANGUAGE plpgsql AS $$
BEGIN
    SELECT status INTO p_status_before FROM vessel WHERE registration = p_registration FOR UPDATE;
    IF p_status_before IS NULL THEN
        RAISE EXCEPTION 'There is no vessel %.', p_registration USING ERRCODE = '45V01';
    ELSIF p_status_before <> 'active' THEN
        RAISE EXCEPTION '% is % already.', p_registration, p_status_before USING ERRCODE = '45V02';
    END IF;
    UPDATE vessel SET status = 'laid-up', notes = COALESCE(p_note, notes), row_version = row_version + 1 WHERE registration = p_registration;
    OPEN p_permits FOR SELECT number, class, valid_to FROM permit WHERE vessel = p_registration ORDER BY valid_to DESC, number;
END
$$;
COMMENT ON PROCEDURE lay_up_vessel IS 'Takes a vessel out of traffic, and tells its permits, which its operator may hand back';
