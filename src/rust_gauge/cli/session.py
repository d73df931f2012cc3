"""What every command starts from: the service, the tenant, input files, and what errors say."""

import argparse
import json
import os
import sys
from collections.abc import Callable
from functools import cached_property
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any, TypeVar

from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.output import Output

if TYPE_CHECKING:
    from pydantic import BaseModel

    from rust_gauge.client import Client
    from rust_gauge.contract.domains import Domain

M = TypeVar("M", bound="BaseModel")
_SHOWN_ERRORS = 10


class Session:
    """One run of the command."""

    def __init__(self, arguments: argparse.Namespace, output: Output) -> None:
        self.arguments, self.output = arguments, output

    def __enter__(self) -> "Session":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if "client" in self.__dict__:
            self.client.close()

    @cached_property
    def client(self) -> "Client":
        """The client; imported when a command needs it, as that takes most of the time of a short one."""
        # httpx imports its own command line, with rich and click, wherever they are installed.
        sys.modules.setdefault("click", None)  # type: ignore[arg-type]
        from rust_gauge.client.synchronous.client import Client

        if sys.modules["click"] is None:
            del sys.modules["click"]
        return Client(self.arguments.url, token=os.environ.get("RUSTGAUGE_TOKEN", ""))

    def tenant(self, domain: str | None = None) -> str:
        """Return the tenant meant: named, the only one there is, or the one that has `domain`."""
        if self.arguments.tenant:
            return str(self.arguments.tenant)
        tenants = [tenant.slug for tenant in self.client.who().tenants]
        if len(tenants) == 1:
            return tenants[0]
        if not tenants:
            raise UsageError("this token gives access to no tenant; ask an admin for a membership")
        if domain:
            found = {tenant: self._domain(tenant, domain) for tenant in tenants}
            having = [tenant for tenant in tenants if found[tenant] is not None]
            # One that was only seen in events may be somebody else's.
            added = [tenant for tenant in having if (known := found[tenant]) and known.origin == "added"]
            if len(added or having) == 1:
                return (added or having)[0]
            if having:
                raise UsageError(f"several tenants have {domain}; name one with --tenant: {', '.join(having)}")
            raise UsageError(f"no tenant has the domain {domain}; add it: rustgauge domain add {domain} --tenant ...")
        raise UsageError(f"name a tenant with --tenant or RUSTGAUGE_TENANT: {', '.join(tenants)}")

    def tenant_of_subject(self) -> str:
        """Return the tenant of the domain, stream, relay or IP that the command names."""
        arguments = self.arguments
        return self.tenant(arguments.name if arguments.subject == "domain" else None)

    def _domain(self, tenant: str, domain: str) -> "Domain | None":
        from rust_gauge.client.errors import NotFoundError

        try:
            return self.client.domains.get(tenant, domain)
        except NotFoundError:
            return None

    def confirm(self, question: str) -> bool:
        """Ask before something that cannot be undone; --yes answers. UsageError where nobody can be asked."""
        if self.arguments.yes:
            return True
        if not sys.stdin.isatty():
            raise UsageError("confirm with --yes; there is no terminal to ask on")
        self.output.say(f"{question} [y/N]")
        if input().strip().lower() in ("y", "yes"):
            return True
        self.output.say("Nothing was changed.")
        return False


def read_text(name: str) -> str:
    """Return a file's text; `-` is standard input. UsageError when it cannot be read."""
    try:
        return sys.stdin.read() if name == "-" else Path(name).read_text("utf-8")
    except OSError as error:
        raise UsageError(f"{name} cannot be read: {error.strerror}") from None
    except UnicodeDecodeError as error:
        raise UsageError(f"{name} is not UTF-8: octet {error.start + 1}; convert it first") from None


def read_secret(name: str) -> str:
    """Return a secret from the first line of a file; `-` is standard input."""
    return read_text(name).partition("\n")[0].strip()


def write_bytes(name: str, pieces: Any) -> None:
    """Write pieces of octets to a file; UsageError when it cannot be written."""
    try:
        with Path(name).open("wb") as file:
            for piece in pieces:
                file.write(piece)
    except OSError as error:
        raise UsageError(f"{name} cannot be written: {error.strerror}") from None


def read_json(name: str) -> Any:
    """Return the JSON document of a file. UsageError with line and column of the first mistake."""
    try:
        return json.loads(read_text(name))
    except json.JSONDecodeError as error:
        raise UsageError(f"{name} is not JSON: {error.msg} at line {error.lineno}, column {error.colno}") from None


def read_model(name: str, model: type[M], example: str) -> M:
    """Return a document of the API from a JSON file. `example`: the command that prints one."""
    return checked(lambda: model.model_validate(read_json(name)), f"{name}: ", f"; `{example}` prints a valid one")


def checked(make: Callable[[], M], before: str = "", after: str = "") -> M:
    """Return what `make` makes. UsageError for the first value that the model does not accept."""
    from pydantic import ValidationError

    try:
        return make()
    except ValidationError as error:
        raise UsageError(f"{before}{first_mistake(error)}{after}") from None


def first_mistake(error: Any) -> str:
    """Say in one line what is wrong with the first value that a model does not accept."""
    from rust_gauge.contract.validation import explain, field_of

    first = error.errors()[0]
    return f"{field_of(first)}: {explain(first)}".removeprefix(": ")


def words_of(error: Exception) -> tuple[int, list[str]] | None:
    """Return the exit status and the lines that an expected error comes to; None for a defect."""
    from pydantic import ValidationError

    from rust_gauge.client.errors import ClientError, ProblemResponse

    if isinstance(error, ProblemResponse):
        problem = error.problem
        lines = [str(error)]
        for mistake in problem.errors[:_SHOWN_ERRORS]:
            lines.append(f"{mistake.field}: {mistake.what}" if mistake.field else mistake.what)
        if problem.errors_total > _SHOWN_ERRORS:
            lines.append(f"... and {problem.errors_total - _SHOWN_ERRORS:,} more")
        if problem.remedy:
            lines.append(problem.remedy)
        elif problem.status == 401:
            lines.append("Set RUSTGAUGE_TOKEN to a valid token; create one on the Settings page")
        return 1, list(dict.fromkeys(lines))
    if isinstance(error, ClientError):
        return 1, [f"{error}. Check that the service is running and that --url is right"]
    if isinstance(error, ValidationError):
        return 2, [first_mistake(error)]
    module = sys.modules.get("rust_gauge.offline.sources")  # imported where a command works without a service
    source_error = getattr(module, "SourceError", None) if module else None
    if source_error is not None and isinstance(error, source_error):
        remedy = getattr(error, "remedy", "")
        return 2, [str(error), *([remedy] if remedy else [])]
    return None
