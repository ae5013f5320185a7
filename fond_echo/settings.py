"""Settings: from the environment (FOND_ECHO_…), or one file of NAME=value lines."""

from __future__ import annotations

import hashlib
import hmac
import os
from pathlib import Path
from typing import Annotated

from cryptography.fernet import Fernet
from pydantic import Field, field_validator
from pydantic_settings import BaseSettings, NoDecode, SettingsConfigDict

DEFAULT_PORT = 8770


def _listed(value: object) -> object:
    if isinstance(value, str):
        return [part.strip() for part in value.split(",") if part.strip()]
    return value


Listed = Annotated[list[str], NoDecode]


class Settings(BaseSettings):
    """All settings of the service, with what they are when nothing is said."""

    model_config = SettingsConfigDict(
        env_prefix="FOND_ECHO_",
        env_file=os.environ.get("FOND_ECHO_FILE", "fond-echo.env"),
        extra="ignore",
    )

    data: Path = Field(default=Path("data"), description="folder for what is kept on disk")
    database: str = Field(
        default="", description="PostgreSQL address; empty starts a server of our own in data"
    )
    host: str = Field(default="127.0.0.1", description="address that the web process listens on")
    port: int = Field(default=DEFAULT_PORT, description="port that the web process listens on")
    public_address: str = Field(
        default="", description="where others reach the web process, such as https://echo.example"
    )
    speech_port: int = Field(default=DEFAULT_PORT + 1, description="port of the speech process")
    speech_host: str = Field(default="127.0.0.1", description="address of the speech process")
    speech_workers: int = Field(
        default=0, ge=0, description="speech worker processes; 0 is one a core, less one"
    )
    turns_at_once: int = Field(
        default=16, ge=1, le=200, description="turns that a work process carries at once"
    )
    private_hosts: Listed = Field(
        default_factory=list,
        description="private host:port places that requests may go to, separated by commas",
    )
    secret_keys: Listed = Field(
        default_factory=list,
        description="keys that encrypt secrets, first the one in use; empty keeps one in data",
    )
    proxies: Listed = Field(
        default_factory=lambda: ["127.0.0.1"],
        description="reverse proxies whose X-Forwarded-For and -Proto are believed",
    )
    try_budget: float = Field(
        default=1.0, ge=0.0, description="what tries and replays that ask engines may cost a day"
    )
    event_days: int = Field(
        default=30, ge=1, le=3_650, description="days for which events can be read"
    )
    first_key: str = Field(
        default="", description="the first admin key, made when there are no keys yet"
    )
    log: str = Field(default="plain", pattern="^(plain|json)$", description="plain or json")

    log_level: str = Field(
        default="info",
        pattern="^(debug|info|warning|error)$",
        description="what is logged at least: debug, info, warning or error",
    )

    @field_validator("private_hosts", "secret_keys", "proxies", mode="before")
    @classmethod
    def _from_commas(cls, value: object) -> object:
        return _listed(value)

    @property
    def address(self) -> str:
        """Where the web process is reached."""
        return self.public_address.rstrip("/") or f"http://{self.host}:{self.port}"

    @property
    def speech_url(self) -> str:
        return f"http://{self.speech_host}:{self.speech_port}"

    @property
    def speech_token(self) -> str:
        """What our own processes show each other; it follows from the first secret key."""
        return hmac.new(self.encryption_keys()[0].encode(), b"speech", hashlib.sha256).hexdigest()

    def encryption_keys(self) -> list[str]:
        """The keys for secrets; one is made and kept in the data folder where none is set."""
        if self.secret_keys:
            return self.secret_keys
        kept = self.data / "secret-key"
        if not kept.exists():
            self.data.mkdir(parents=True, exist_ok=True)
            descriptor = os.open(kept, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            with os.fdopen(descriptor, "w") as file:
                file.write(Fernet.generate_key().decode())
        return [kept.read_text().strip()]

    def environment(self) -> dict[str, str]:
        """These settings as environment variables, for processes started from this one."""
        values = {name: getattr(self, name) for name in type(self).model_fields}
        return {
            f"FOND_ECHO_{name.upper()}": ",".join(value) if isinstance(value, list) else str(value)
            for name, value in values.items()
        }
