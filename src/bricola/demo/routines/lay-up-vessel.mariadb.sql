CREATE PROCEDURE lay_up_vessel(p_registration varchar(40), p_note varchar(200), OUT p_status_before varchar(20))
COMMENT 'Takes a vessel out of traffic, and tells its permits, which its operator may hand back'
BEGIN
    DECLARE words varchar(200);
    SELECT status INTO p_status_before FROM vessel WHERE registration = p_registration FOR UPDATE;
    IF p_status_before IS NULL THEN
        SET words = CONCAT('There is no vessel ', p_registration, '.');
        SIGNAL SQLSTATE '45V01' SET MESSAGE_TEXT = words;
    ELSEIF p_status_before <> 'active' THEN
        SET words = CONCAT(p_registration, ' is ', p_status_before, ' already.');
        SIGNAL SQLSTATE '45V02' SET MESSAGE_TEXT = words;
    END IF;
    UPDATE vessel SET status = 'laid-up', notes = COALESCE(p_note, notes), row_version = row_version + 1 WHERE registration = p_registration;
    SELECT number, class, valid_to FROM permit WHERE vessel = p_registration ORDER BY valid_to DESC, number;
END
