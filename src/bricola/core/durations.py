"""Units of time in seconds."""

MINUTE = 60.0
HOUR = 60 * MINUTE
DAY = 24 * HOUR
MONTH = 30 * DAY  # for "in the last month"; no calendar is meant
