"""The OpenAPI document, held against a web process of its own by generated requests."""

import os
import subprocess
import sys
import time
import unittest

import httpx
import schemathesis
from hypothesis import HealthCheck, Phase, given, settings
from schemathesis.checks import not_a_server_error
from schemathesis.specs.openapi.checks import (
    content_type_conformance,
    response_schema_conformance,
    status_code_conformance,
)

from fond_echo.running.processes import CLI
from fond_echo.store.local import free_port
from tests.support.database import fresh_database

KEY = "fe-key-for-the-property-test"
ENDLESS = ("/api/events",)
NOT_READY = ("/health/ready", "/api/speech/renditions")
"""Answer 503 where nothing works, hears or speaks, as here, where only the web process runs."""
CHECKS = [
    not_a_server_error,
    status_code_conformance,
    content_type_conformance,
    response_schema_conformance,
]


class Document(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        port = free_port()
        environment = {
            **os.environ,
            "FOND_ECHO_DATABASE": fresh_database(),
            "FOND_ECHO_PORT": str(port),
            "FOND_ECHO_FIRST_KEY": KEY,
            "FOND_ECHO_SECRET_KEYS": "MDEyMzQ1Njc4OTAxMjM0NTY3ODkwMTIzNDU2Nzg5MDE=",
        }
        cls.process = subprocess.Popen([sys.executable, "-m", CLI, "web"], env=environment)
        cls.addClassCleanup(cls.process.wait)
        cls.addClassCleanup(cls.process.terminate)
        cls.address = f"http://127.0.0.1:{port}"
        deadline = time.monotonic() + 60
        while time.monotonic() < deadline:
            try:
                if httpx.get(f"{cls.address}/health").status_code == 200:
                    return
            except httpx.HTTPError:
                time.sleep(0.1)
        raise RuntimeError("the web process did not start")

    def test_it_is_3_1_and_names_every_operation(self):
        document = httpx.get(f"{self.address}/api/openapi.json").json()
        self.assertTrue(document["openapi"].startswith("3.1"))
        names = [
            each["operationId"] for path in document["paths"].values() for each in path.values()
        ]
        self.assertEqual(len(names), len(set(names)))

    def test_every_operation_keeps_to_it_whatever_it_is_asked(self):
        schema = schemathesis.openapi.from_url(f"{self.address}/api/openapi.json")
        quick = settings(
            max_examples=3, deadline=None, derandomize=True, database=None, phases=[Phase.generate],
            suppress_health_check=list(HealthCheck),
        )  # fmt: skip
        for result in schema.get_all_operations():
            operation = result.ok()
            if operation.path in (*ENDLESS, *NOT_READY):
                continue
            with self.subTest(operation=f"{operation.method} {operation.path}"):

                @quick
                @given(case=operation.as_strategy())
                def hold(case):
                    response = case.call(headers={"Authorization": f"Bearer {KEY}"}, timeout=60)
                    case.validate_response(response, checks=CHECKS)

                hold()
