"""Settings: `OAK_RELAY_*` in the environment, then one TOML file, then what stands here."""

import os
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from pydantic import Field, SecretStr, field_validator
from pydantic_settings import BaseSettings, PydanticBaseSettingsSource, SettingsConfigDict, TomlConfigSettingsSource

from oak_relay.places import is_this_machine
from oak_relay.runtime.listed import Listed

_POSTGRES = 5432


class Settings(BaseSettings):
    """What a process may be told. Times in seconds, sizes in bytes."""

    model_config = SettingsConfigDict(env_prefix="OAK_RELAY_", extra="ignore", frozen=True)

    data_dir: Path = Field(Path("data"), description="Key file, local token and, without database_url, the database.")
    database_url: SecretStr | None = Field(
        None, description="Another PostgreSQL; without it the service brings its own."
    )
    database_pooled: bool = Field(False, description="database_url is a pooler in transaction mode.")
    database_direct_url: SecretStr | None = Field(None, description="The server behind the pooler, for notifications.")
    database_port: int = Field(0, description="Port of the own PostgreSQL; 0 picks a free one.")
    host: str = "127.0.0.1"
    port: int = Field(8470, ge=0, le=65535)
    public_url: str = Field("", description="How others reach the service; for links.")
    proxies: list[str] = Field(
        default_factory=list,
        description="Addresses and networks of the proxies in front of the service that may say whom they speak for (X-Forwarded-For, X-Forwarded-Proto); nobody else is believed.",
    )
    workers: int = Field(1, ge=0, le=64, description="Worker processes that `up` starts.")
    walks: int = Field(200, ge=1, le=5000, description="Runs that a worker carries out at once.")
    lease: float = Field(6.0, ge=0.5, le=300, description="How long a silent worker keeps its runs.")
    poll: float = Field(1.0, ge=0.05, le=60, description="How often a worker looks for runs without being told.")
    keep_months: int = Field(0, ge=0, le=1200, description="Months of history that are kept; 0 for all.")
    keep_ids_days: int = Field(30, ge=1, le=3650, description="How long the id of an event counts once.")
    backlog: int = Field(100_000, ge=10, description="Runs that may be ready before webhooks are put off (429).")
    file_limit: int = Field(50_000_000, ge=1_000, description="Largest file.")
    files_limit: int = Field(10_000_000_000, ge=1_000, description="All files of a workspace together.")
    body_limit: int = Field(1_000_000, ge=1_000, description="Largest webhook body.")
    key_file: Path | None = Field(None, description="The master key; made on first start when absent.")
    key: SecretStr | None = Field(None, description="The master key itself, 32 bytes in base64.")
    reach: list[str] = Field(default_factory=list, description="Hosts that actions may call; empty for all.")
    private: list[str] = Field(
        default_factory=list,
        description="Hosts, addresses and networks of this machine and of private networks that may be called although the service is reached from elsewhere; a port may be named (`ledger.internal:8080`).",
    )
    proxy: str = Field("", description="The HTTP proxy that everything is sent through, if any.")
    host_rate: float = Field(1_000, gt=0, description="Requests a second to one host from one process.")
    host_connections: int = Field(1_000, ge=1, description="Connections to one host from one process.")
    otlp_endpoint: str = Field(
        "", description="Where traces of ended runs are sent (OTLP over HTTP, JSON), if anywhere."
    )
    otlp_credential: str = Field("", description="The stored credential for it.")
    otlp_content: bool = Field(False, description="Whether answers and arguments of tools are sent along.")
    programs: bool = Field(False, description="Whether tool servers may be programs that are started here.")
    code: bool = Field(True, description="Whether code.python is there, where its sandbox holds.")
    log_format: str = Field("text", pattern="^(text|json)$")
    first_password: SecretStr | None = Field(
        None, description="Of the first member; without it one is made and printed."
    )
    link_days: int = Field(30, ge=1, le=3650, description="How long the link to a question holds.")
    metrics: bool = Field(True, description="Whether /metrics is there.")
    openapi: bool = Field(True, description="Whether /openapi.json and /schema/workflow.json are there.")
    sign_in_hours: int = Field(24 * 7, ge=1)
    currency: str = Field("", pattern="^([A-Z]{3})?$", description="Of all prices and sums (ISO 4217), as it is shown.")

    @classmethod
    def settings_customise_sources(
        cls,
        settings_cls: type[BaseSettings],
        init_settings: PydanticBaseSettingsSource,
        env_settings: PydanticBaseSettingsSource,
        dotenv_settings: PydanticBaseSettingsSource,
        file_secret_settings: PydanticBaseSettingsSource,
    ) -> tuple[PydanticBaseSettingsSource, ...]:
        file = Path(os.environ.get("OAK_RELAY_CONFIG", "oak-relay.toml"))
        return init_settings, env_settings, TomlConfigSettingsSource(settings_cls, file)

    @property
    def own_url(self) -> str:
        """The address at which the service is reached."""
        return self.public_url.rstrip("/") or f"http://{self.host}:{self.port}"

    @field_validator("private")
    @classmethod
    def _places(cls, value: list[str]) -> list[str]:
        for text in value:
            Listed.read(text)
        return value

    @property
    def exposed(self) -> bool:
        """Whether others than this machine reach the service, by what the settings say."""
        shown = urlsplit(self.public_url).hostname or "" if self.public_url else "localhost"
        return not (is_this_machine(self.host) and is_this_machine(shown))

    @property
    def own_ports(self) -> frozenset[int]:
        """Ports of this machine that the service and its database listen on."""
        ports = {self.port}
        for secret in (self.database_url, self.database_direct_url):
            if secret is not None:  # several hosts may be named, each with a port
                hosts = urlsplit(secret.get_secret_value()).netloc.rpartition("@")[2].split(",")
                ports |= {int(port) if port.isdigit() else _POSTGRES for port in (h.rpartition(":")[2] for h in hosts)}
        return frozenset(ports - {0})

    def environment(self) -> dict[str, Any]:
        """The settings as environment variables, for the processes that `up` starts."""
        shown: dict[str, Any] = {}
        for name in type(self).model_fields:
            value = getattr(self, name)
            if value in (None, "", []):
                continue
            if isinstance(value, SecretStr):
                value = value.get_secret_value()
            shown[f"OAK_RELAY_{name.upper()}"] = (
                str(value) if not isinstance(value, list) else str(value).replace("'", '"')
            )
        return shown
