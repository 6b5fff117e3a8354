"""Who knocks and is not known is counted by door, for an hour, without end of memory."""

from bricola.core.calls.strangers import Strangers


def test_a_door_that_is_known_is_counted_as_itself_however_many_there_are() -> None:
    minute = [0.0]
    strangers = Strangers(lambda: minute[0])
    strangers.count("live", "Weirs")
    for number in range(1500):
        strangers.count("live", f"Service{number}")
    strangers.count("live", "Weirs")
    assert strangers.total["live", "Weirs"] == 2
    assert len(strangers.total) <= 1001
    assert sum(strangers.total.values()) == 1502
    minute[0] = 59 * 60.0
    assert strangers.last_hour()["live", "Weirs"] == 2
    minute[0] = 60 * 60.0
    assert strangers.last_hour()["live", "Weirs"] == 0
    assert strangers.total["live", "Weirs"] == 2
