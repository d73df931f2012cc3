"""`client.trays`: where test messages are caught, and what tests want to know of them."""

# Made from `asynchronous` by tools/sync_client.py: change that one.

import builtins
from collections.abc import Iterator, Sequence
from datetime import datetime

from rust_gauge.client.calls import trays as calls
from rust_gauge.client.errors import NoMessageError, NotFoundError
from rust_gauge.client.synchronous.part import Part
from rust_gauge.contract.assays import Assay
from rust_gauge.contract.bench import (
    BenchComparison,
    CaughtMessage,
    Conversation,
    MadeTray,
    NewTray,
    ParsedMessage,
    Series,
    SeriesSummary,
    Tray,
    TrayChange,
    TrayConnection,
)

_POLL = 25.0  # seconds of one request that waits; proxies cut off those that take longer than 30


class Trays(Part):
    """Trays: what is sent there is caught and goes nowhere else."""

    def list(self, tenant: str) -> "builtins.list[Tray]":
        """Return a tenant's trays."""
        return (self._client.send(calls.list_trays(tenant))).items

    def get(self, tenant: str, name: str) -> Tray:
        """Return one tray."""
        return self._client.send(calls.get_tray(tenant, name))

    def add(self, tenant: str, new: NewTray) -> MadeTray:
        """Add a tray. Its `password` is in this answer only."""
        return self._client.send(calls.add_tray(tenant, new))

    def update(self, tenant: str, name: str, change: TrayChange) -> Tray:
        """Change settings of a tray. Settings that are left out stay unchanged."""
        return self._client.send(calls.update_tray(tenant, name, change))

    def delete(self, tenant: str, name: str) -> None:
        """Delete a tray and its messages."""
        self._client.send(calls.delete_tray(tenant, name))

    def rotate_password(self, tenant: str, name: str) -> MadeTray:
        """Give a tray a new SMTP password. The one before is refused from now on."""
        return self._client.send(calls.rotate_tray_password(tenant, name))

    def connection(self, tenant: str, name: str) -> TrayConnection:
        """Return how to send to a tray."""
        return self._client.send(calls.get_tray_connection(tenant, name))

    def messages(
        self, tenant: str, name: str, *, recipient: str | None = None, subject: str | None = None,
        header_from: str | None = None, series: str | None = None, since: datetime | None = None,
    ) -> Iterator[CaughtMessage]:  # fmt: skip
        """Yield messages, newest first. `subject` and `header_from` are parts of the text."""
        stamp = None if since is None else since.isoformat()
        return self._client.pages(
            lambda cursor: calls.list_messages(
                tenant, name, cursor, recipient=recipient, subject=subject, header_from=header_from, template=series,
                since=stamp,
            )
        )  # fmt: skip

    def put(
        self, tenant: str, name: str, raw: bytes, *, mail_from: str = "", recipients: Sequence[str] = ()
    ) -> CaughtMessage:
        """Put a message into a tray. Without `recipients`, those in To and Cc count."""
        return self._client.send(calls.add_message(tenant, name, raw, mail_from, recipients))

    def wait(
        self, tenant: str, name: str, *, timeout: float = 30.0, recipient: str | None = None,
        subject: str | None = None, header_from: str | None = None, header: str | None = None,
        since: datetime | None = None, after: int | None = None,
    ) -> ParsedMessage:  # fmt: skip
        """Wait for a message and return it, read. NoMessageError when none came within `timeout` seconds.

        With `after` (the number of a message) or `since` it is the first one behind it, else the newest one.
        """
        stamp = None if since is None else since.isoformat()
        while True:
            step = min(timeout, _POLL)
            try:
                return self._client.send(
                    calls.wait_for_message(
                        tenant, name, step, recipient=recipient, subject=subject, header_from=header_from,
                        header=header, since=stamp, after=after,
                    )
                )  # fmt: skip
            except NotFoundError as error:
                if not error.problem.type.endswith("/no-message"):
                    raise
                timeout -= step
                if timeout <= 0:
                    raise NoMessageError(error.problem) from None

    def message(self, tenant: str, name: str, id: int) -> ParsedMessage:
        """Return one message, read."""
        return self._client.send(calls.get_message(tenant, name, id))

    def assay(self, tenant: str, name: str, id: int, *, again: bool = False) -> Assay:
        """Return the assay of a message. `again`: examine it again, with DNS as it is now."""
        return self._client.send(calls.get_assay(tenant, name, id, again=again))

    def conversation(self, tenant: str, name: str, id: int) -> Conversation:
        """Return the SMTP conversation in which a message came."""
        return self._client.send(calls.get_conversation(tenant, name, id))

    def source(self, tenant: str, name: str, id: int) -> Iterator[bytes]:
        """Yield the octets of a message as they came."""
        return self._client.download(f"/api/v1{calls.tray_path(tenant, name, f'/messages/{id}/source')}", {})

    def part(self, tenant: str, name: str, id: int, number: str) -> Iterator[bytes]:
        """Yield the decoded octets of one part, such as an attachment."""
        return self._client.download(f"/api/v1{calls.tray_path(tenant, name, f'/messages/{id}/parts/{number}')}", {})

    def delete_message(self, tenant: str, name: str, id: int) -> None:
        """Delete a message."""
        self._client.send(calls.delete_message(tenant, name, id))

    def empty(self, tenant: str, name: str) -> int:
        """Delete all messages of a tray, and return how many."""
        return self._client.send(calls.empty_tray(tenant, name))

    def compare(self, tenant: str, name: str, ids: Sequence[int]) -> BenchComparison:
        """Compare two to six messages with the first of them."""
        return self._client.send(calls.compare_messages(tenant, name, ids))

    def series(self, tenant: str, name: str) -> "builtins.list[SeriesSummary]":
        """Return the templates whose messages are in a tray."""
        return (self._client.send(calls.list_series(tenant, name))).items

    def history(self, tenant: str, name: str, series: str) -> Series:
        """Return the marks of a template over time, and their spread by path."""
        return self._client.send(calls.get_series(tenant, name, series))
