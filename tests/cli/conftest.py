"""Commands against the running service."""

import io

import pytest

from rust_gauge.cli.main import main
from rust_gauge.cli.output import Output
from tests.conftest import Office


@pytest.fixture
def run(office: Office, monkeypatch: pytest.MonkeyPatch):  # type: ignore[no-untyped-def]
    """Run a command; gives (exit status, standard output, standard error)."""
    monkeypatch.setenv("RUSTGAUGE_TOKEN", office.token)
    monkeypatch.setenv("COLUMNS", "100")
    monkeypatch.delenv("RUSTGAUGE_TENANT", raising=False)

    def command(*words: str, out: io.StringIO | None = None) -> tuple[int, str, str]:
        out, err = out or io.StringIO(), io.StringIO()
        status = main([words[0], "--url", office.world.url, *words[1:]], Output(out, err))
        return status, out.getvalue(), err.getvalue()

    return command
