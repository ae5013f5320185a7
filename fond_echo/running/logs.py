"""Structured logs: plain lines for people, JSON for machines; a turn's id where there is one."""

from __future__ import annotations

import logging
import sys

import structlog

from fond_echo.settings import Settings


def set_up(settings: Settings, process: str) -> None:
    """Send our logs and the libraries' to standard error, one event a line."""
    begin(settings.log, settings.log_level, process)


def begin(form: str, level: str, process: str) -> None:
    """The same, where there are no settings; `form` is plain or json."""
    shared: list[structlog.types.Processor] = [
        structlog.contextvars.merge_contextvars,
        structlog.processors.add_log_level,
        structlog.processors.TimeStamper(fmt="iso", utc=True),
    ]
    last: structlog.types.Processor = (
        structlog.processors.JSONRenderer()
        if form == "json"
        else structlog.dev.ConsoleRenderer(
            colors=sys.stderr.isatty(),
            # Without the values of local variables: secrets may be among them.
            exception_formatter=structlog.dev.plain_traceback,
        )
    )
    structlog.configure(
        processors=[*shared, structlog.processors.format_exc_info, last],
        wrapper_class=structlog.make_filtering_bound_logger(level),
        logger_factory=structlog.WriteLoggerFactory(sys.stderr),
    )
    handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(
        structlog.stdlib.ProcessorFormatter(
            foreign_pre_chain=shared,
            processors=[structlog.stdlib.ProcessorFormatter.remove_processors_meta, last],
        )
    )
    logging.basicConfig(level=logging.WARNING, handlers=[handler], force=True)
    structlog.contextvars.bind_contextvars(process=process)
