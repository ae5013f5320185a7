"""Whether the service is well, for people, orchestrators and graphs."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from types import MappingProxyType

import httpx
import structlog
from fastapi import Response
from prometheus_client import CollectorRegistry, Histogram, generate_latest
from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily, Metric
from sqlalchemy import text

from fond_echo.contract.api import Dependency, Health
from fond_echo.tls import trusted
from fond_echo.web.access import MayRead
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.service import Service, TheService

log = structlog.get_logger()
router = CheckedRouter(tags=["health"])

WORKER_SECONDS = 10
ARRIVALS = Histogram(
    "fond_echo_webhook_seconds",
    "How long a webhook took to be answered",
    registry=None,
    buckets=(0.005, 0.01, 0.02, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5),
)

_WORKERS = text(
    "SELECT count(*) FROM procrastinate_workers"
    " WHERE last_heartbeat > now() - make_interval(secs => :seconds)"
)
_COUNTS = text(
    """
    SELECT 'turns', state, count(*) FROM turns
     WHERE received_at > now() - interval '1 hour' GROUP BY state
    UNION ALL
    SELECT 'jobs', status::text, count(*) FROM procrastinate_jobs GROUP BY status
    UNION ALL
    SELECT 'deliveries', state, count(*) FROM deliveries
     WHERE planned_at > now() - interval '1 hour' GROUP BY state
    UNION ALL
    SELECT 'webhook_deliveries', state, count(*) FROM webhook_deliveries GROUP BY state
    UNION ALL
    SELECT 'channels', state, count(*) FROM channels GROUP BY state
    UNION ALL
    SELECT 'unreadable_messages', name, unreadable FROM channels WHERE unreadable > 0
    """
)
_LOOPS = text("SELECT name, facts->'loop' FROM channels WHERE facts->'loop' IS NOT NULL")
_OF_CALLS = {
    "calls_open": ("calls", "Calls that are going on", 1),
    "call_packets_late_seconds": ("late_ms_p99", "By how much our packets leave late, p99", 1_000),
    "call_set_up_seconds": ("set_up_ms_p95", "From an INVITE to its answer, p95", 1_000),
}
_HELP = {
    "unreadable_messages": "Messages that could not be read, by channel",
    "turns": "Turns that came in within the last hour, by state",
    "jobs": "Jobs of the queue, by state",
    "deliveries": "Deliveries planned within the last hour, by state",
    "webhook_deliveries": "Events on their way to subscriptions, by state",
    "channels": "Channels, by state",
}


async def dependencies(service: Service) -> list[Dependency]:
    """What the service needs, and whether it is there."""
    found: list[Dependency] = []
    try:
        async with service.database.reading() as session:
            workers = (await session.execute(_WORKERS, {"seconds": WORKER_SECONDS})).scalar_one()
    except Exception as error:
        log.warning("the database is away", reason=str(error).splitlines()[0])
        return [Dependency(name="database", ready=False, detail="does not answer")]
    found.append(Dependency(name="database", ready=True))
    reported = f"{workers} worker{'s' if workers != 1 else ''} with a heartbeat"
    found.append(Dependency(name="work", ready=workers > 0, detail=reported))
    try:
        async with httpx.AsyncClient(trust_env=False, timeout=2.0, verify=trusted()) as client:
            answer = await client.get(f"{service.settings.speech_url}/health")
        ready, reported = answer.status_code == 200, f"{answer.json().get('waiting', '?')} waiting"
    except (httpx.HTTPError, ValueError) as error:
        log.info("the speech process does not answer", reason=str(error) or type(error).__name__)
        ready, reported = False, "does not answer"
    found.append(Dependency(name="speech", ready=ready, detail=reported))
    return found


@router.get("/health")
async def get_health(service: TheService) -> Health:
    """Show whether the service is ready, and each thing it depends on."""
    needed = await dependencies(service)
    return Health(alive=True, ready=all(each.ready for each in needed), dependencies=needed)


@router.get("/health/ready", responses={503: {"model": Health}})
async def get_readiness(service: TheService, response: Response) -> Health:
    """Answer 503 while the service is not ready."""
    reported = await get_health(service)
    if not reported.ready:
        response.status_code = 503
    return reported


@router.get("/metrics", include_in_schema=False)
async def metrics(_: MayRead, service: TheService) -> Response:
    """Figures in the Prometheus text format."""
    async with service.database.reading() as session:
        rows = (await session.execute(_COUNTS)).all()
        facts: dict[str, dict[str, float]] = dict((await session.execute(_LOOPS)).tuples().all())
    counts = [(name, state, count) for name, state, count in rows]
    return Response(exposition(counts, facts), media_type="text/plain; version=0.0.4")


NO_CHANNELS: Mapping[str, Mapping[str, float]] = MappingProxyType({})


def exposition(
    counts: list[tuple[str, str, int]], channels: Mapping[str, Mapping[str, float]] = NO_CHANNELS
) -> bytes:
    """Figures in the Prometheus text format.

    Args:
        counts: names with their states and counts.
        channels: what phone channels tell of their calls, by channel.
    """
    registry = CollectorRegistry()
    registry.register(_Counts(counts))
    registry.register(_Phones(channels))
    registry.register(ARRIVALS)
    return generate_latest(registry)


class _Phones:
    """How calls go, by channel: as the process with their sockets says every few seconds."""

    def __init__(self, channels: Mapping[str, Mapping[str, float]]) -> None:
        self._channels = channels

    def collect(self) -> Iterable[Metric]:
        for name, (key, what, divided) in _OF_CALLS.items():
            gauge = GaugeMetricFamily(f"fond_echo_{name}", what, labels=["channel"])
            for channel, facts in self._channels.items():
                if key in facts:
                    gauge.add_metric([channel], facts[key] / divided)
            yield gauge
        refused = CounterMetricFamily(
            "fond_echo_calls_refused", "Calls that were refused, by reason or status",
            labels=["channel", "reason"],
        )  # fmt: skip
        for channel, facts in self._channels.items():
            for key, count in facts.items():
                if key.startswith("refused_"):
                    refused.add_metric([channel, key.removeprefix("refused_")], count)
        yield refused


class _Counts:
    """Counts from the database as gauges."""

    def __init__(self, rows: list[tuple[str, str, int]]) -> None:
        self._rows = rows

    def collect(self) -> Iterable[Metric]:
        for name, reported in _HELP.items():
            label = "channel" if name == "unreadable_messages" else "state"
            gauge = GaugeMetricFamily(f"fond_echo_{name}", reported, labels=[label])
            for kind, state, count in self._rows:
                if kind == name:
                    gauge.add_metric([state], count)
            yield gauge
