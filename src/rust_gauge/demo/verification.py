"""The demo's verifiers: a list checked within a budget, and verdicts of three weeks ago beside later mail."""

import csv
import io
from collections.abc import Sequence
from dataclasses import replace
from datetime import timedelta
from pathlib import Path

from sqlalchemy import Connection

from rust_gauge.contract.feeds import FieldSource
from rust_gauge.contract.jobs import ListCheckRequest
from rust_gauge.contract.verification import (
    HeaderField,
    NewRecipientSource,
    NewVerifier,
    VerificationSettings,
    VerifierAnswer,
    VerifierRequest,
)
from rust_gauge.core.mailflow import Kind
from rust_gauge.core.names import address_key, parse_address
from rust_gauge.service.clearance import list_checks
from rust_gauge.service.jobs import jobs
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.verification import following, new_recipients, verifiers
from rust_gauge.service.verification.asking import ask
from rust_gauge.store import verification as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.bulk import literal, run
from rust_gauge.store.verification import VerdictRow

KEY = "demo-key"
_TENANT = "thornfield"
_AGO = timedelta(days=21)  # when the list was checked first
_CHECKED = 400  # addresses then
_SECOND = 120  # of them by the second verifier as well
_LIST = 500  # recipients in the list of today
FILE = "spring-catalogue.csv"
_WORDS = {"open": "good", "closed": "bad", "unsure": "unknown"}
_HEADERS = [HeaderField(name="Authorization", value="Bearer {secret}")]


def load_verification(context: Context, tenant: TenantAccess, port: int, folder: Path) -> None:
    """Add two verifiers, what they said three weeks ago, and a list that is checked with them today; once."""
    if tenant.slug != _TENANT or verifiers.list_verifiers(context, tenant):
        return
    many = VerifierRequest(
        method="POST", url=f"http://127.0.0.1:{port}/mailboxes", headers=_HEADERS, body={"ask": "{addresses}"},
        at_once=50,
    )  # fmt: skip
    of_many = VerifierAnswer(
        each="$.answers[*]",
        fields={"verdict": FieldSource(path="@.mailbox.state", table=_WORDS), "detail": FieldSource(
            path="@.mailbox.note"), "address": FieldSource(path="@.address")},
    )  # fmt: skip
    one = VerifierRequest(url=f"http://127.0.0.1:{port}/mailbox?address={{address}}&strict=1", headers=_HEADERS)
    of_one = VerifierAnswer(
        fields={"verdict": FieldSource(path="$.mailbox.state", table=_WORDS), "detail": FieldSource(
            path="$.mailbox.note")},
    )  # fmt: skip
    verifiers.put_settings(context, tenant, VerificationSettings(cross_check=0.05))
    past = replace(context, clock=lambda: context.clock() - _AGO)
    for new in (
        NewVerifier(name="pinmarsh", request=many, answer=of_many, price=0.003, budget_day=1.2, secret=KEY),
        NewVerifier(name="goosander", request=one, answer=of_one, price=0.005, budget_day=1, secret=KEY),
    ):
        verifiers.add_verifier(past, tenant, new)
    first, second = context.store.transaction(lambda c: store.list_verifiers(c, tenant.id))
    addresses = context.store.transaction(lambda c: _mailed_since(c, tenant.id, past.clock().isoformat(), _CHECKED))
    for row, asked in ((first, addresses), (second, addresses[:_SECOND])):
        answers, _ = ask(past, row, asked)
        rows = [
            VerdictRow(
                address_key(parse_address(text)), row.id, text, found.verdict, found.word, found.detail, row.price,
                past.clock().replace(tzinfo=None), None, None,
            )
            for text, found in answers.items()
        ]  # fmt: skip
        context.store.transaction(lambda c, rows=rows: store.put_verdicts(c, tenant.id, rows))  # type: ignore[misc]
    decided = {"paid": len(addresses)}
    day = past.clock().date()
    context.store.transaction(lambda c: store.count_decided(c, tenant.id, day, decided, 0))
    following.follow(context, tenant.id)
    _check_list(context, tenant, folder, addresses[::4])
    new_recipients.add_source(context, tenant, NewRecipientSource(name="catalogue-form", path="$.email"))


def _mailed_since(connection: Connection, tenant_id: int, since: str, limit: int) -> list[str]:
    """Return recipients of mail since a time, dead ones among them."""
    kinds = f"({Kind.DELIVERED.number}, {Kind.BOUNCED.number})"
    sql = (
        "SELECT recipient, MAX(kind) AS worst, MIN(HEX(recipient_key)) AS k FROM event "
        f"WHERE tenant_id = {tenant_id} AND occurred_at >= {literal(since[:19])} AND kind IN {kinds} "
        f"GROUP BY recipient ORDER BY worst DESC, k LIMIT {4 * limit}"
    )
    rows = list(run(connection, sql))
    dead = [row.recipient for row in rows if row.worst == Kind.BOUNCED.number][: limit // 8]
    alive = [row.recipient for row in rows if row.worst != Kind.BOUNCED.number][: limit - len(dead)]
    return sorted(dead + alive)


def _check_list(context: Context, tenant: TenantAccess, folder: Path, known: Sequence[str]) -> None:
    """A list of people who asked for the catalogue, some long ago and some known: checked by the worker, within the
    budgets.
    """
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(("email", "asked_for_it"))
    hosts = ("tidepost.example", "kestrelbox.example", "orchardmail.example", "fenlandnet.example", "mossback.example")
    for n in range(_LIST):
        number = 100 + n % 60 if n % 9 == 0 else n % 90
        writer.writerow((f"reader.{'abcdefgh'[n % 8]}{n // 8}x{number}@{hosts[n % 5]}", f"{2019 + n % 7}"))
    writer.writerows((address, "2026") for address in known)
    octets = out.getvalue().encode()
    folder.mkdir(parents=True, exist_ok=True)
    (folder / FILE).write_bytes(octets)
    job = list_checks.start(context, tenant, ListCheckRequest(name=FILE, verify=True), "isla@skerry.example")
    jobs.put_piece(context, tenant, job.id, 0, octets)
    jobs.run(context, tenant, job.id, dry=False)
