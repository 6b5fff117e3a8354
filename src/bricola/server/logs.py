"""What the service writes down about itself: one set-up of structlog, a line an event, on standard error.

Every line has a time (ISO 8601, UTC), a level, the part of the service, and the number of the call that it is about (empty where it is
about none). What libraries say through `logging` comes out in the same form.
"""

import logging
import sys
from collections.abc import MutableMapping
from enum import StrEnum
from typing import Any

import structlog


class LogFormat(StrEnum):
    AUTO = "auto"  # lines for people in a terminal, JSON elsewhere
    CONSOLE = "console"
    JSON = "json"


class LogLevel(StrEnum):
    DEBUG = "debug"
    INFO = "info"
    WARNING = "warning"
    ERROR = "error"


def _with_call(_: Any, __: str, event: MutableMapping[str, Any]) -> MutableMapping[str, Any]:
    """Every line has the call's number, so that one search finds all that was said of a call."""
    event.setdefault("call", "")
    return event


def set_up_logs(level: LogLevel = LogLevel.INFO, form: LogFormat = LogFormat.AUTO) -> None:
    """For the whole process, once. Before it is called, lines go where structlog's own defaults send them."""
    as_json = form is LogFormat.JSON or (form is LogFormat.AUTO and not sys.stderr.isatty())
    shared: list[Any] = [
        structlog.stdlib.add_logger_name, structlog.stdlib.add_log_level, structlog.processors.TimeStamper(fmt="iso", utc=True), _with_call,
    ]
    structlog.configure(
        processors=[structlog.stdlib.filter_by_level, *shared, structlog.processors.StackInfoRenderer(),
                    structlog.stdlib.ProcessorFormatter.wrap_for_formatter],
        logger_factory=structlog.stdlib.LoggerFactory(), wrapper_class=structlog.stdlib.BoundLogger, cache_logger_on_first_use=True)
    last: list[Any] = [structlog.processors.format_exc_info, structlog.processors.JSONRenderer(ensure_ascii=False)] if as_json else [
        # Not the one with the values of all variables: they may be secrets, and laying them out takes seconds of the event loop.
        structlog.dev.ConsoleRenderer(colors=sys.stderr.isatty(), exception_formatter=structlog.dev.plain_traceback)]
    handler = logging.StreamHandler()
    handler.setFormatter(structlog.stdlib.ProcessorFormatter(
        foreign_pre_chain=shared, processors=[structlog.stdlib.ProcessorFormatter.remove_processors_meta, *last]))
    root = logging.getLogger()
    root.handlers = [handler]
    root.setLevel(level.upper())
    for noisy in ("uvicorn", "uvicorn.error", "httpx", "httpcore", "asyncio", "psycopg"):
        logging.getLogger(noisy).setLevel(max(logging.WARNING, root.level))
