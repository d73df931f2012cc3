"""SPF results, captured messages and aggregate reports as text for a terminal."""

from rust_gauge.cli.output import Output, plural
from rust_gauge.contract.audits import FeedbackReport, MessageCheck, SignatureResult, SpfCheck, SpfResult, TlsReport

_ONE_CLICK = {True: "offered in signed fields", False: "not offered in signed fields", None: "not known"}
_COLOURS = {"pass": "sound", "fail": "fault", "permerror": "fault", "softfail": "risk", "temperror": "risk"}


def show_spf_check(output: Output, done: SpfCheck) -> None:
    for spf_result in (done.helo, done.mail_from):
        if spf_result is not None:
            _show_spf(output, spf_result, postmaster=done.postmaster)


def _show_spf(output: Output, result: SpfResult, *, postmaster: bool) -> None:
    mail_from = "MAIL FROM (empty: by the HELO name)" if postmaster else "MAIL FROM"
    identity = "HELO" if result.identity == "helo" else mail_from
    output.line(f"{identity} {result.domain}: {output.paint(result.result, _COLOURS.get(result.result, 'dim'))}")
    output.line(f"    {result.reason}")
    for step in result.steps:
        lead = "    " + "  " * step.depth
        output.line(f"{lead}{step.term or step.domain}  {output.paint(step.outcome, 'dim')}"
                    + (f"  {step.note}" if step.note else ""))  # fmt: skip
        for asked in step.asked:
            output.line(output.paint(f"{lead}  {asked}  {' '.join(step.answer)}", "dim"))
    output.line(output.paint(f"    {result.lookups} of 10 lookups, {result.voids} of 2 void lookups", "dim"))
    if result.explanation:
        output.line(f"    explanation to the sender: {result.explanation}")


def show_message(output: Output, done: MessageCheck) -> None:
    output.line(f"From {output.paint(done.header_from or '(no usable From domain)', 'bold')}")
    for problem in done.problems:
        output.line(output.paint(f"    {problem}", "risk"))
    for result in done.dmarc:
        way = "public suffix list (RFC 7489)" if result.way == "suffix-list" else "tree walk (DMARCbis)"
        colour = "sound" if result.result == "pass" else "fault" if result.result == "fail" else "dim"
        output.line(f"DMARC by the {way}: {output.paint(result.result, colour)}, {result.disposition}")
        output.line(f"    {result.reason}")
    if not done.signatures:
        output.line("DKIM: the message is not signed")
    for signature in done.signatures:
        _show_signature(output, signature)
    output.line(f"One-click unsubscribe (RFC 8058): {_ONE_CLICK[done.one_click]}")
    if done.spf:
        show_spf_check(output, done.spf)
    else:
        output.line("SPF: not evaluated; name the sending IP with --ip")


def _show_signature(output: Output, signature: SignatureResult) -> None:
    colour = _COLOURS.get(signature.result, "dim")
    output.line(f"DKIM d={signature.domain} s={signature.selector} {signature.algorithm}: "
                f"{output.paint(signature.result, colour)}")  # fmt: skip
    output.line(f"    {signature.detail}")
    for clue in signature.clues:
        output.line(output.paint(f"    {clue}", "bold"))
    if signature.body_hash_computed:
        output.line(output.paint(
            f"    body {signature.canonicalisation.partition('/')[2]}: octets 1 to {signature.body_hashed} of "
            f"{signature.body_octets} hashed, bh={signature.body_hash_computed}"
            + ("" if signature.body_matches else f" (signed: {signature.body_hash_given})"), "dim"))  # fmt: skip
    if signature.signed_fields:
        names = ", ".join(field.partition(":")[0] for field in signature.signed_fields)
        output.line(output.paint(f"    signed: {names}", "dim"))
    if signature.unsigned:
        output.line(output.paint(f"    not signed: {', '.join(signature.unsigned)}", "dim"))
    for note in signature.notes:
        output.line(output.paint(f"    {note}", "dim"))


def show_report(output: Output, done: FeedbackReport) -> None:
    """A DMARC aggregate report by source."""
    output.line(f"{done.reporter} about {output.paint(done.domain, 'bold')}, "
                f"{done.begin:%Y-%m-%d %H:%M} to {done.end:%Y-%m-%d %H:%M} UTC")  # fmt: skip
    colour = "sound" if done.aligned == done.messages else "risk"
    output.line(output.paint(f"{done.aligned:,} of {done.messages:,} messages aligned", colour))
    tags = {name: value for name, value in done.policy.model_dump().items() if value}
    output.line(
        f"policy that the receiver found: {'; '.join(f'{name}={value}' for name, value in tags.items()) or 'none'}"
    )
    for source in done.sources:
        output.line(
            f"{source.source_ip}: {source.aligned:,} of {source.messages:,} aligned; {', '.join(source.dispositions)}"
        )
        output.line(output.paint(f"    From {', '.join(source.header_from) or '?'}", "dim"))
        for what, words in (("DKIM", source.signatures), ("SPF", source.spf)):
            output.line(output.paint(f"    {what} {'; '.join(words) or 'none'}", "dim"))
        if source.reasons:
            output.line(output.paint(f"    policy not applied: {'; '.join(source.reasons)}", "dim"))
    for new in done.new_selectors:
        output.line(f"new selector {new.selector} of {new.domain}: audits check its key from now on")
    if done.left_out:
        output.line(
            output.paint(f"{plural(done.left_out, 'row')} of the report could not be read and left out", "risk")
        )


def show_tls_report(output: Output, done: TlsReport) -> None:
    """A report on TLS by policy."""
    output.line(f"{done.reporter}, {done.begin:%Y-%m-%d %H:%M} to {done.end:%Y-%m-%d %H:%M} UTC")
    for policy in done.policies:
        sessions = policy.successful + policy.failed
        output.line(f"{output.paint(policy.domain, 'bold')}: policy {policy.policy}; "
                    + output.paint(f"{policy.successful:,} of {sessions:,} sessions encrypted as it asks",
                                   "risk" if policy.failed else "sound"))  # fmt: skip
        for failure in policy.failures:
            where = " ".join(part for part in (failure.receiving_mx, failure.receiving_ip) if part)
            reason = f" ({failure.reason})" if failure.reason else ""
            output.line(f"    {failure.result}: {failure.sessions:,} sessions{f' to {where}' if where else ''}{reason}")
    if done.left_out:
        output.line(output.paint(f"{done.left_out:,} parts of the report were unreadable and left out", "risk"))
