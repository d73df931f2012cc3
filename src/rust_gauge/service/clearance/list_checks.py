"""A list before a send: how many would be held and why, what is doubtful, what each provider would see."""

from collections import Counter, defaultdict
from functools import partial
from typing import Any

from sqlalchemy import Connection

from rust_gauge.contract.jobs import Job as ShownJob
from rust_gauge.contract.jobs import ListCheckRequest
from rust_gauge.core.roles import Role
from rust_gauge.core.suppression import Reason
from rust_gauge.core.suppression.checks import Check, Found, Verdict, Weight
from rust_gauge.core.suppression.files import Row, read_rows
from rust_gauge.service.clearance.answers import Answer, Question
from rust_gauge.service.clearance.clearance import Desk
from rust_gauge.service.jobs import jobs
from rust_gauge.service.providers.lookup import providers_for, with_lookups
from rust_gauge.service.providers.providers import columns_of
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.suppression.address_checks import get_words, look_at
from rust_gauge.service.suppression.entries import csv_as_it_came
from rust_gauge.service.suppression.imports import CountedPieces, layout_document, layout_of, read_ahead
from rust_gauge.service.verification.checking import verify
from rust_gauge.store import jobs as store_jobs
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.jobs import Job

_PIECE = 5000  # rows between two records of progress
CLEAR, HELD, DOUBTFUL = "clear", "held", "doubtful"
_WOULD_BOUNCE = {
    str(Reason.INVALID_ADDRESS),
    str(Reason.DOMAIN_INVALID),
    str(Reason.REPEATED_BOUNCES),
    "no_address",
    "bad",
}


def start(context: Context, tenant: TenantAccess, request: ListCheckRequest, by: str) -> ShownJob:
    name = request.name or "unnamed list"
    return jobs.add(context, tenant, "list_check", name, request.model_dump(mode="json"), by, wait_for_file=True)


def run_check(context: Context, job: Job) -> dict[str, Any]:
    """The job."""
    return _ListCheck(context, job).run()


class _ListCheck:
    def __init__(self, context: Context, job: Job) -> None:
        self._context, self._job, self._id, self._tenant_id = context, job, job.id, job.tenant_id
        self._request = ListCheckRequest.model_validate(job.request)
        self._done = int(job.position.get("row", 0))
        self._position = dict(job.position)
        before = job.result
        self._counts: Counter[str] = Counter(before.get("counts", {}))
        self._why: Counter[str] = Counter(before.get("why", {}))
        self._doubts: Counter[str] = Counter(before.get("doubts", {}))
        self._providers: dict[str, Counter[str]] = defaultdict(Counter)
        for name, counts in before.get("by_provider", {}).items():
            self._providers[name] = Counter(counts)
        self._suggestions: Counter[str] = Counter(before.get("suggestions", {}))
        self._layout = layout_of(context, job.id, self._request)
        sizes = context.store.transaction(lambda c: store_jobs.sizes(c, job.id, store_jobs.FILE))
        self._total = sum(size for _, size in sizes)
        tenant = TenantAccess(self._tenant_id, "", "", Role.VIEWER)
        self._words = get_words(context, tenant)
        self._columns = context.store.transaction(lambda c: columns_of(c, self._tenant_id, context.clock().date()))
        self._seen: set[bytes] = set()

    def run(self) -> dict[str, Any]:
        source = CountedPieces(self._context, self._id)
        rows: list[Row] = []

        def pieces() -> Any:
            nonlocal rows
            for row in read_rows(source, self._layout):
                if row.number > self._done:
                    rows.append(row)
                    if len(rows) >= _PIECE:
                        yield rows, source.octets
                        rows = []
            if rows:
                yield rows, source.octets

        for piece, octets in read_ahead(pieces()):
            self._take(piece, octets)
        return self._result()

    def _result(self) -> dict[str, Any]:
        return {
            "layout": layout_document(self._layout), "counts": dict(self._counts), "why": dict(self._why),
            "doubts": dict(self._doubts), "suggestions": dict(self._suggestions.most_common(50)),
            "by_provider": {name: dict(counts) for name, counts in self._providers.items()},
        }  # fmt: skip

    def _take(self, rows: list[Row], octets: int) -> None:
        texts = [row.address for row in rows]
        question = Question(self._request.stream, self._request.domain)
        answers = with_lookups(
            self._context,
            lambda lookup: self._context.unit(self._tenant_id, lambda unit: Desk(unit, lookup, question).answer(texts)),
        )
        checks: dict[int, Check] = {}
        if self._request.check_addresses:
            free = [number for number, answer in enumerate(answers) if answer.verdict == "clear"]
            found = look_at(self._context, self._tenant_id, [texts[number] for number in free], self._words)
            if self._request.verify:
                found = verify(self._context, self._tenant_id, found, self._renew)
            checks = dict(zip(free, found, strict=True))
        domains = {text.rpartition("@")[2].lower() for text in texts if "@" in text}
        known = {check.address.domain for check in checks.values() if check.address is not None}
        providers = providers_for(self._context, known | {domain for domain in domains if domain in known})
        lines: dict[str, list[bytes]] = {CLEAR: [], HELD: [], DOUBTFUL: []}
        for number, (row, answer) in enumerate(zip(rows, answers, strict=True)):
            self._judge(row, answer, checks.get(number), providers, lines)
        self._write(rows[-1].number, octets, lines)

    def _renew(self) -> None:
        """Stay the one who has this job while verifiers are asked."""
        self._context.store.transaction(lambda c: store_jobs.renew(c, self._job, self._context.clock()))

    def _judge(
        self, row: Row, answer: Answer, check: Check | None, providers: dict[str, tuple[int, str]],
        lines: dict[str, list[bytes]],
    ) -> None:  # fmt: skip
        domain = check.address.domain if check is not None and check.address is not None else ""
        provider = self._columns.label(self._columns.place(providers[domain][0])) if domain in providers else ""
        counts = self._counts
        counts["rows"] += 1
        if answer.verdict == "held":
            part, why, says = HELD, answer.reason, answer.why
            if not provider:
                provider = self._provider_of(row.address)
        elif check is not None and (against := _against(check)) is not None:
            part, why, says = HELD, against.word, against.detail
        elif answer.elsewhere:
            part, why, says = DOUBTFUL, "held_elsewhere", _elsewhere(answer)
        elif check is not None and check.verdict in (Verdict.DOUBTFUL, Verdict.UNKNOWN):
            doubt = next(found for found in check.found if found.weight.value in ("doubt", "open"))
            part, why, says = DOUBTFUL, doubt.word, doubt.detail
        else:
            part, why, says = CLEAR, "", ""
        counts[part] += 1
        here = self._providers[provider or "not looked up"]
        here["rows"] += 1
        here[part] += 1
        if part == HELD:
            self._why[why] += 1
            bounces = why in _WOULD_BOUNCE or answer.verdict == "clear"
            counts["would_bounce"] += bounces
            here["would_bounce"] += bounces
        elif part == DOUBTFUL:
            self._doubts[why] += 1
            if check is not None and check.suggestion:
                self._suggestions[f"{domain} → {check.suggestion.rpartition('@')[2]}"] += 1
        cells = row.cells or (row.address,)
        suggestion = check.suggestion if check is not None else ""
        lines[part].append(csv_as_it_came(cells if part == CLEAR else (*cells, why, says, suggestion)))

    def _provider_of(self, text: str) -> str:
        domain = text.rpartition("@")[2].strip("> ").lower()
        known = self._context.memory.get(("column", self._tenant_id, domain))
        if known is None:
            found = providers_for(self._context, [domain]) if _is_plain(domain) else {}
            id = found.get(domain, (0, ""))[0]
            known = self._columns.label(self._columns.place(id)) if id else "not looked up"
            if len(self._context.memory) < 50_000:
                self._context.memory[("column", self._tenant_id, domain)] = known
        return str(known)

    def _write(self, last: int, octets: int, lines: dict[str, list[bytes]]) -> None:
        now = self._context.clock()
        self._position = {**self._position, "row": last}
        self._context.store.transaction(partial(self._store, last=last, octets=octets, lines=lines, now=now))

    def _store(self, connection: Connection, last: int, octets: int, lines: dict[str, list[bytes]], now: Any) -> None:
        heading = tuple(self._layout.heading) or ("address",)
        there = store_jobs.parts(connection, self._id)
        for part, found in lines.items():
            if found:
                extra = () if part == CLEAR else ("why", "detail", "suggestion")
                head = csv_as_it_came((*heading, *extra)) if part not in there else b""
                store_jobs.put_piece(connection, self._id, part, last, head + b"".join(found))
        store_jobs.advance(
            connection, self._job, now, done=min(octets, self._total), total=self._total,
            position=self._position, result=self._result(),
        )  # fmt: skip


def _against(check: Check) -> Found | None:
    """Return what speaks against mailing an address. That it is held is not looked up here: clearance has said so.

    An entry for another stream does not reach this mail.
    """
    if check.verdict is not Verdict.BAD:
        return None
    return next((f for f in check.found if f.weight is Weight.AGAINST and f.word != "held"), None)


def _elsewhere(answer: Answer) -> str:
    """Return where an address is held that is clear for this mail."""
    return "; ".join(
        f"held in the {each.scope} {each.scope_name}: {each.reason.replace('_', ' ')}" for each in answer.elsewhere
    )


def _is_plain(domain: str) -> bool:
    return bool(domain) and domain.isascii() and all(c.isalnum() or c in ".-" for c in domain) and "." in domain
