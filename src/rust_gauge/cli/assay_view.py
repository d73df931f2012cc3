"""An assay as text for a terminal: the mark, then each finding with its place and remedy."""

from rust_gauge.cli.output import Output, plural
from rust_gauge.client.assay_formats import place_text
from rust_gauge.contract.assays import Assay, AssayComparison, AssayFinding

_SHOWN = 3  # places of one finding


def show_assay(output: Output, done: Assay) -> None:
    """Write an assay."""
    output.line(f"{output.paint(done.subject or '(no subject)', 'bold')}  from {done.header_from or '(no From)'}")
    kinds = ", ".join(f"{part.type} {part.size:,}" for part in done.parts if not part.type.startswith("multipart/"))
    output.line(output.paint(f"{done.size:,} octets: {kinds}", "dim"))
    taken = round(100 - done.mark, 1)
    output.line(f"Mark {output.paint(f'{done.mark:g}', _colour(done.mark))} of 100: "
                f"{plural(len(done.findings), 'finding')}, {taken:g} points off")  # fmt: skip
    for finding in done.findings:
        _show(output, finding)
    if done.not_checked:
        output.line()
    for what in done.not_checked:
        output.line(output.paint(f"Not checked: {what}", "dim"))


def _colour(mark: float) -> str:
    return "sound" if mark >= 90 else "risk" if mark >= 70 else "fault"


def _show(output: Output, finding: AssayFinding) -> None:
    points = f"-{finding.points:g}" if finding.points else "0"
    times = f" ({finding.count} times)" if finding.count > 1 else ""
    output.line()
    level = output.paint(f"{finding.level:5}", finding.level)
    output.line(f"{level} {points:>5}  {output.paint(finding.title, 'bold')}{times}")
    for place in finding.places[:_SHOWN]:
        where = place_text(place)
        if where or place.text:
            output.line(output.paint(f"             {where}{': ' if where and place.text else ''}{place.text}", "dim"))
    if finding.count > _SHOWN:
        output.line(output.paint(f"             and {finding.count - _SHOWN} more", "dim"))
    output.line(f"             {finding.effect}")
    output.line(f"             {output.paint(finding.remedy, 'bold')}"
                + (output.paint(f"  {finding.reference}", "dim") if finding.reference else ""))  # fmt: skip


def show_comparison(output: Output, done: AssayComparison) -> None:
    """Write what differs between two messages, and which difference may account for each point."""
    delta = round(done.mark_after - done.mark_before, 1)
    sign = f"{delta:+g}" if delta else "the same"
    output.line(f"{output.paint(done.name, 'bold')} against {done.against}: mark {done.mark_before:g}, "
                f"then {output.paint(f'{done.mark_after:g}', _colour(done.mark_after))} ({sign})")  # fmt: skip
    if not done.changes:
        output.line("    The messages differ neither in what was sent nor in how it came.")
    kinds = list(dict.fromkeys(change.kind for change in done.changes))
    if len(kinds) > 1:
        output.line(f"    {len(kinds)} kinds of things changed at once: {', '.join(kinds)}")
    for change in done.changes:
        output.line(f"    {change.kind}: {change.what}")
        for mark, text, colour in (("-", change.before, "fault"), ("+", change.after, "sound")):
            for line in text.splitlines():
                output.line(output.paint(f"        {mark} {line}", colour))
    if done.points:
        output.line()
    for point in done.points:
        off = round(point.before - point.after, 1)
        output.line(f"{off:+6g}  {point.title}")
        output.line(output.paint(f"        {_reason(point.because)}", "dim"))
    output.line()


def _reason(because: list[str]) -> str:
    if not because:
        return "Nothing differs that this rule looks at: the time, DNS, or the weight of other findings may."
    if len(because) == 1:
        return f"Because this changed: {because[0]}"
    return f"Several things changed at once and cannot be told apart: {', '.join(because)}"
