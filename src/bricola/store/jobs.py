"""Jobs, and what their steps gave. Values come here sealed; the key is elsewhere."""

import json
from collections.abc import Callable
from typing import Any

from bricola.core.jobs.journal import Entry, Mark
from bricola.core.jobs.model import Job, JobState
from bricola.store.database import Db

Seal = Callable[[str], bytes]
Unseal = Callable[[bytes], str]
_COLUMNS = ("id, environment, service, segment, release, operation, source, caller, roles, accepted_at, ends_at, given, state, attempt,"
            " worker, steps, step, changed_at, words, outcome, cancelled, request, reply_to, message_id, soap, told")
_OPEN = f"('{JobState.WAITING}', '{JobState.RUNNING}')"


def _job(row: tuple[Any, ...], unseal: Unseal | None) -> Job:
    """Without `unseal` values are left out."""
    one = dict(zip(Job._fields, _named(row), strict=True))
    one["roles"], one["state"] = tuple(json.loads(one["roles"])), JobState(one["state"])
    for name in ("given", "outcome"):
        one[name] = unseal(one[name]) if unseal is not None and one[name] is not None else ""
    return Job(**one)


def _named(row: tuple[Any, ...]) -> list[Any]:
    found = dict(zip(_COLUMNS.split(", "), row, strict=True))
    return [found[name] for name in Job._fields]


def accept(db: Db, job: Job, since: float, seal: Seal) -> str:
    """Keep a new job; its id, or that of the one that was accepted for the same request at or after a moment. An older one is of a request
    that may be forgotten, and this is another."""
    if job.request:
        row = db.execute("SELECT id FROM job WHERE request = ? AND accepted_at >= ?", (job.request, since)).fetchone()
        if row is not None:
            return str(row[0])
        db.execute("UPDATE job SET request = '' WHERE request = ?", (job.request,))
    parts = job._asdict() | {"roles": json.dumps(job.roles), "given": seal(job.given), "outcome": None, "state": str(job.state)}
    names = list(parts)
    db.execute(f"INSERT INTO job ({', '.join(names)}) VALUES ({', '.join('?' * len(names))})", list(parts.values()))
    return job.id


def claim(db: Db, job: str, worker: str, at: float, unseal: Unseal) -> tuple[Job, list[Entry]] | None:
    """Take one that waits, or one that somebody had: the folder is this process's, so that one has ended, or goes no further."""
    taken = db.execute(f"UPDATE job SET state = '{JobState.RUNNING}', worker = ?, changed_at = ? WHERE id = ? AND state IN {_OPEN}",
                       (worker, at, job)).rowcount
    if not taken:
        return None
    found = find(db, job, unseal)
    assert found is not None
    return found, entries(db, job, unseal)


def write(db: Db, job: str, worker: str, entry: Entry, seal: Seal) -> bool:
    """False when the job is not this worker's any more."""
    mine = db.execute(f"SELECT 1 FROM job WHERE id = ? AND worker = ? AND state = '{JobState.RUNNING}'", (job, worker)).fetchone()
    if mine is None:
        return False
    db.execute("INSERT OR REPLACE INTO job_step VALUES (?, ?, (SELECT coalesce(max(number), 0) + 1 FROM job_step WHERE job = ?),"
               " ?, ?, ?, ?)", (job, entry.key, job, str(entry.mark), entry.at, entry.attempt, seal(entry.text) if entry.text else None))
    if "=" not in entry.key:
        if entry.mark is Mark.DONE:
            db.execute("UPDATE job SET steps = steps + 1, step = ?, changed_at = ? WHERE id = ?", (entry.key, entry.at, job))
        else:
            db.execute("UPDATE job SET step = ?, changed_at = ? WHERE id = ?", (entry.key, entry.at, job))
    return True


def finish(db: Db, job: str, worker: str, state: JobState, outcome: bytes | None, words: str, at: float) -> bool:
    """Nothing of it is sealed where it goes back to waiting."""
    return db.execute("UPDATE job SET state = ?, outcome = ?, words = ?, changed_at = ?, worker = '' WHERE id = ? AND worker = ?",
                      (str(state), outcome, words, at, job, worker)).rowcount > 0


def find(db: Db, job: str, unseal: Unseal | None = None) -> Job | None:
    row = db.execute(f"SELECT {_COLUMNS} FROM job WHERE id = ?", (job,)).fetchone()
    return _job(row, unseal) if row is not None else None


def entries(db: Db, job: str, unseal: Unseal) -> list[Entry]:
    """In the order in which they became known."""
    rows = db.execute("SELECT key, mark, at, attempt, held FROM job_step WHERE job = ? ORDER BY number", (job,))
    return [Entry(key, Mark(mark), at, attempt, unseal(held) if held is not None else "") for key, mark, at, attempt, held in rows]


def open_jobs(db: Db) -> list[str]:
    return [one for one, in db.execute(f"SELECT id FROM job WHERE state IN {_OPEN} ORDER BY accepted_at")]


def recent(db: Db, environment: str, service: str, state: str, before: float | None, limit: int) -> list[Job]:
    """The newest first, without their values."""
    where, parameters = ["1"], list[Any]()
    for column, value in (("environment", environment), ("service", service), ("state", state)):
        if value:
            where.append(f"{column} = ?")
            parameters.append(value)
    if before is not None:
        where.append("accepted_at < ?")
        parameters.append(before)
    rows = db.execute(f"SELECT {_COLUMNS} FROM job WHERE {' AND '.join(where)} ORDER BY accepted_at DESC LIMIT ?", (*parameters, limit))
    return [_job(row, None) for row in rows.fetchall()]


def prune(db: Db, environment: str, before: float) -> int:
    """Drop what came to rest long ago; what a person has to look at stays."""
    return db.execute(f"DELETE FROM job WHERE environment = ? AND changed_at < ? AND state NOT IN {_OPEN} AND state != ?",
                      (environment, before, str(JobState.UNKNOWN))).rowcount


def reseal(db: Db, again: Callable[[bytes], bytes]) -> None:
    """Seal everything anew."""
    rows = db.execute("SELECT id, given, outcome FROM job").fetchall()
    db.executemany("UPDATE job SET given = ?, outcome = ? WHERE id = ?",
                   [(again(given), again(outcome) if outcome is not None else None, one) for one, given, outcome in rows])
    steps = db.execute("SELECT job, key, held FROM job_step WHERE held IS NOT NULL").fetchall()
    db.executemany("UPDATE job_step SET held = ? WHERE job = ? AND key = ?", [(again(held), job, key) for job, key, held in steps])


def to_tell(db: Db) -> list[str]:
    """Those that have come to rest, and whose end was not told yet."""
    return [one for one, in db.execute(f"SELECT id FROM job WHERE reply_to != '' AND told != 'told' AND told NOT LIKE 'given up%'"
                                       f" AND state NOT IN {_OPEN} AND state != ?", (str(JobState.UNKNOWN),))]


def note_told(db: Db, job: str, told: str) -> None:
    db.execute("UPDATE job SET told = ? WHERE id = ?", (told, job))


# what people do


RESTORED = "The store comes from a backup. What this job did after it was taken is not known here."


def hold_all(db: Db) -> None:
    """Have a person decide about all that is under way."""
    db.execute(f"UPDATE job SET state = ?, worker = '', words = ? WHERE state IN {_OPEN}", (str(JobState.UNKNOWN), RESTORED))


def want_end(db: Db, job: str, who: str) -> None:
    """Somebody wants it to end; what runs is told besides."""
    db.execute(f"UPDATE job SET cancelled = ?, state = CASE WHEN state = '{JobState.UNKNOWN}' THEN '{JobState.WAITING}' ELSE state END"
               " WHERE id = ?", (who, job))


def leave(db: Db, job: str, words: str, at: float) -> None:
    db.execute("UPDATE job SET state = ?, words = ?, changed_at = ? WHERE id = ?", (str(JobState.LEFT), words, at, job))


def resume(db: Db, job: str, forget: list[str], replace: list[Entry], again: bool, at: float, seal: Seal) -> None:
    """Have it go on: without some entries, with others in their place. `again` counts a new attempt, with as much time as the first."""
    db.executemany("DELETE FROM job_step WHERE job = ? AND key = ?", [(job, key) for key in forget])
    for entry in replace:
        db.execute("UPDATE job_step SET mark = ?, at = ?, held = ? WHERE job = ? AND key = ?",
                   (str(entry.mark), entry.at, seal(entry.text) if entry.text else None, job, entry.key))
    done = f"(SELECT count(*) FROM job_step WHERE job = id AND mark = '{Mark.DONE}' AND instr(key, '=') = 0)"
    ends = "CASE WHEN ? THEN ? + ends_at - accepted_at ELSE ends_at END"
    db.execute("UPDATE job SET state = ?, worker = '', words = '', outcome = NULL, cancelled = '', told = '', changed_at = ?,"
               f" attempt = attempt + ?, ends_at = {ends}, steps = {done} WHERE id = ?",
               (str(JobState.WAITING), at, int(again), again, at, job))
