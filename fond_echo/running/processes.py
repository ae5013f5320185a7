"""The processes of an installation, alone or together."""

from __future__ import annotations

import asyncio
import os

from fond_echo.running import logs
from fond_echo.running.supervisor import Part
from fond_echo.settings import Settings

CLI = "fond_echo.cli"


def web(settings: Settings) -> None:
    """API, console, webhooks."""
    from fond_echo.http_server import serve
    from fond_echo.web.app import create_app

    logs.set_up(settings, "web")
    serve(
        create_app(settings),
        host=settings.host,
        port=settings.port,
        forwarded_allow_ips=settings.proxies,
        log_config=None,
        access_log=False,
        timeout_graceful_shutdown=3,
    )


def speech(settings: Settings) -> None:
    """Ear and voice."""
    from fond_echo.http_server import serve
    from fond_echo.speech.pool import SpeechPool
    from fond_echo.speech.server import create_app

    logs.set_up(settings, "speech")
    workers = settings.speech_workers or max(1, (os.cpu_count() or 2) - 1)
    serve(
        create_app(SpeechPool(workers), settings.speech_token),
        host=settings.speech_host,
        port=settings.speech_port,
        log_config=None,
        access_log=False,
        timeout_graceful_shutdown=3,
    )


def work(settings: Settings) -> None:
    """Queued turns."""
    from fond_echo.running.work import run

    logs.set_up(settings, "work")
    asyncio.run(run(settings))


def phone(settings: Settings) -> None:
    """Calls."""
    from fond_echo.running.phone import run

    logs.set_up(settings, "phone")
    asyncio.run(run(settings))


def parts(settings: Settings) -> list[Part]:
    """All processes of an installation on this machine; its database is there already."""
    environment = settings.environment()
    return [
        Part("speech", CLI, ["speech"], environment, f"{settings.speech_url}/health"),
        Part("web", CLI, ["web"], environment, f"http://{settings.host}:{settings.port}/health"),
        Part("work", CLI, ["work"], environment),
        Part("phone", CLI, ["phone"], environment),
    ]
