"""Jobs: long work with progress. A file is sent in pieces, what comes out is fetched by part."""

from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import Field, StringConstraints

from rust_gauge.contract.common import Model, UtcTime
from rust_gauge.contract.suppression import Note, Reason, Scope

JobKind = Literal["import", "list_check", "policy_backtest", "recompute", "batch", "rules"]
_Column = Annotated[str, StringConstraints(max_length=200)]


class FileLayout(Model):
    """How a file is written; what is left out is found from its beginning."""

    form: Literal["", "csv", "ndjson", "plain"] = ""
    encoding: str = Field("", max_length=40, examples=["windows-1252"])
    columns: dict[Literal["address", "reason", "since", "until", "note"], _Column] = Field(
        default={}, description="Column (its heading or its number from 1) or JSON field by what it holds"
    )


class ImportRequest(Model):
    """A list to be put on the suppression list."""

    name: str = Field("", max_length=200, description="What it is called, such as the name of the file")
    layout: FileLayout = FileLayout()
    reason: Reason = Field("manual", description="Where no column says it")
    scope: Scope = "tenant"
    scope_name: str = Field("", max_length=253)
    until: datetime | None = None
    note: Note = ""
    standing: Literal["keep", "widen", "replace"] = Field(
        "keep", description="Where an entry stands: leave it, hold from the earlier to the later, or as the file says"
    )
    lifted: Literal["stay_clear", "hold_again"] = Field(
        "stay_clear", description="Addresses that were lifted or whose entry ended: leave them clear, or hold again"
    )


class ListCheckRequest(Model):
    """A list to be looked at before a send."""

    name: str = Field("", max_length=200)
    layout: FileLayout = FileLayout()
    stream: str | None = Field(None, max_length=60)
    domain: str | None = Field(None, max_length=253)
    check_addresses: bool = Field(True, description="Look at the addresses and their domains, too")


class Job(Model):
    """Work that takes its time. `done` of `total` in units of its kind: octets, recipients, domains, days."""

    id: int
    kind: JobKind
    name: str
    state: Literal["collecting", "waiting", "running", "cancelled", "failed", "done"]
    done: int
    total: int
    request: dict[str, Any]
    result: dict[str, Any]
    parts: dict[str, int] = Field(default={}, description="Octets by part; each can be fetched")
    error: str = ""
    created_by: str
    created_at: UtcTime
    finished_at: UtcTime | None = None


class JobStart(Model):
    """Begin. With `dry` only what would happen is found out; it can be begun in earnest afterwards."""

    dry: bool = False
