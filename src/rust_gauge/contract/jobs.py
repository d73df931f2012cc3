"""Jobs: long work with progress. A file is uploaded in pieces, the result is fetched in parts."""

from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import Field, StringConstraints

from rust_gauge.contract.common import Model, UtcTime
from rust_gauge.contract.suppression import Note, Reason, Scope

JobKind = Literal["import", "list_check", "policy_backtest", "recompute", "batch", "rules", "list_cut", "report_files"]
_Column = Annotated[str, StringConstraints(max_length=200)]


class FileLayout(Model):
    """The format of a file. What is left out is detected from its beginning."""

    form: Literal["", "csv", "ndjson", "plain"] = ""
    encoding: str = Field("", max_length=40, examples=["windows-1252"])
    columns: dict[Literal["address", "reason", "since", "until", "note"], _Column] = Field(
        default={}, description="Column (its heading or its number from 1) or JSON field by what it holds"
    )


class ImportRequest(Model):
    """A list to import into the suppression list."""

    name: str = Field("", max_length=200, description="Name, for example the file name")
    layout: FileLayout = FileLayout()
    reason: Reason = Field("manual", description="If no column gives it")
    scope: Scope = "tenant"
    scope_name: str = Field("", max_length=253)
    until: datetime | None = None
    note: Note = ""
    standing: Literal["keep", "widen", "replace"] = Field(
        "keep",
        description="Existing entries: leave unchanged, merge (earliest start, latest end), or replace by the file",
    )
    lifted: Literal["stay_clear", "hold_again"] = Field(
        "stay_clear", description="Lifted or ended entries: leave clear, or hold again"
    )


class ListCheckRequest(Model):
    """A list to check before a send."""

    name: str = Field("", max_length=200)
    layout: FileLayout = FileLayout()
    stream: str | None = Field(None, max_length=60)
    domain: str | None = Field(None, max_length=253)
    check_addresses: bool = Field(True, description="Check the addresses and their domains, too")
    verify: bool = Field(False, description="Ask outside verifiers about what is still open, within their budgets")


class ReportFilesRequest(Model):
    """Reports of receivers in one file: a zip or tar archive of many, or one that is large."""

    name: str = Field("", max_length=200, description="Name, for example the file name")


class Job(Model):
    """A job. `done` of `total` in units of its kind: octets, recipients, domains, days."""

    id: int
    kind: JobKind
    name: str
    state: Literal["collecting", "waiting", "running", "cancelled", "failed", "done"]
    done: int
    total: int
    request: dict[str, Any]
    result: dict[str, Any]
    parts: dict[str, int] = Field(default={}, description="Bytes by part; each can be downloaded")
    error: str = ""
    created_by: str
    created_at: UtcTime
    finished_at: UtcTime | None = None


class JobStart(Model):
    """Start of a job. With `dry`, it only finds out what would happen; it can be run for real afterwards."""

    dry: bool = False
