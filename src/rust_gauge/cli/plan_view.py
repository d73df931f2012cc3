"""Record plans as text for a terminal and as lines of a zone file."""

from rust_gauge.cli.output import Output, plural
from rust_gauge.contract.plans import Plan, PlanRecord, RecordPiece

COLOURS = {"matches": "sound", "spreading": "risk", "waiting": "dim", "unanswered": "dim"}
COLUMNS = ("purpose", "host", "type", "priority", "ttl", "value", "state", "causes", "zone_line")


def zone_fragment(done: Plan) -> list[str]:
    """The plan as lines of a zone file; what cannot be published yet, or not here, as comments."""
    lines = [f"; {done.domain}: {plural(done.total, 'record')} for the zone {done.zone}"]
    for record in done.records:
        off = "; " if record.elsewhere or record.waits_for else ""
        lines.append(f"; {record.why}" + (f" - waits for {record.waits_for}" if record.waits_for else ""))
        lines.append(off + record.forms.zone_line)
    return lines


def row_of(record: PlanRecord) -> tuple[object, ...]:
    state = record.check.state if record.check else ""
    causes = "; ".join(cause.text for cause in record.check.causes) if record.check else ""
    host, line = record.forms.host_full, record.forms.zone_line
    return (record.purpose, host, record.type, record.priority, record.ttl, record.value, state, causes, line)


def show_plan(output: Output, done: Plan, host_form: str = "host") -> None:
    """For people: the merged SPF and its price, each record with its state, advice."""
    said = (
        f"{done.right} of {plural(done.total, 'record')} published as planned"
        if done.checked_at
        else "not compared with DNS"
    )
    output.line(f"{output.paint(done.domain, 'bold')} in the zone {done.zone}: {said}")
    for merged in done.spf:
        if merged.lookups > 10:
            output.line(output.paint(f"SPF of {merged.name} needs {merged.lookups} of 10 lookups. Options:", "fault"))
            for option in merged.options:
                command = f"rustgauge plan set {done.domain} --spf {option.relay}={option.way}"
                output.line(f"  {command}: {option.lookups_after} lookups; {option.price}")
        for problem in merged.problems:
            output.line(output.paint(f"SPF of {merged.name}: {problem}", "risk"))
    for record in done.records:
        _show_record(output, record, host_form)
    for advice in done.advice:
        output.line()
        output.line(output.paint(advice.title, "bold"))
        output.line(f"    {advice.why}")


def _show_record(output: Output, record: PlanRecord, host_form: str) -> None:
    check = record.check
    state = check.state if check else "planned"
    host = getattr(record.forms, host_form)
    priority = f" priority {record.priority}" if record.priority is not None else ""
    output.line()
    where = output.paint(" (outside your zone)", "dim") if record.elsewhere else ""
    colour = COLOURS.get(state, "fault" if check else "dim")
    output.line(f"{output.paint(f'{state:>10}', colour)}  "
                f"{output.paint(host or '(empty)', 'bold')}  {record.type}{priority}  TTL {record.ttl}"
                + where)  # fmt: skip
    nothing = f"(waits for {record.waits_for})" if record.waits_for else "."
    taken = check.published[0] if check and record.waits_for and check.state == "matches" and check.published else ""
    output.line(f"{'':12}{record.value or taken or output.paint(nothing, 'dim')}")
    output.line(output.paint(f"{'':12}{record.why}", "dim"))
    if check is None:
        return
    if check.detail:
        output.line(f"{'':12}{check.detail}")
    if check.found_at:
        output.line(f"{'':12}found at {output.paint(check.found_at, 'bold')}: {check.found_value[:200]}")
    if check.state not in ("matches", "missing"):
        for value in check.published:
            output.line(f"{'':12}published: {value}")
        if any(piece.kind != "same" for piece in check.pieces):
            output.line(f"{'':12}{shown_pieces(output, check.pieces)}")
    for cause in check.causes:
        at = f" (character {cause.column})" if cause.column else ""
        output.line(f"{'':12}{output.paint('→', 'risk')} {cause.text}{at}")


def shown_pieces(output: Output, pieces: list[RecordPiece]) -> str:
    """The comparison on one line: {-only planned-} and {+only published+}; long stretches that agree are shortened."""
    out = []
    for piece in pieces:
        if piece.kind == "same":
            text = piece.planned
            out.append(text if len(text) <= 40 else f"{text[:16]} … {text[-16:]}")
            continue
        if piece.planned:
            out.append(output.paint(f"{{-{_short(piece.planned)}-}}", "sound"))
        if piece.published:
            out.append(output.paint(f"{{+{_short(piece.published)}+}}", "fault"))
    return "".join(out)


def _short(text: str) -> str:
    return text if len(text) <= 60 else f"{text[:40]} … {text[-16:]}"
