"""An assay as the contract has it."""

from collections.abc import Mapping, Sequence
from dataclasses import asdict

from rust_gauge.contract import assays as c
from rust_gauge.core.arc import ArcOutcome
from rust_gauge.core.assay import AssayFinding, Examined, Html, Link, Message, Place, SenderHistory
from rust_gauge.core.assay.compare import Comparison, Side, Taken, result_texts
from rust_gauge.core.assay.fields import meaning_of
from rust_gauge.core.assay.learned import TextModel, TextVerdict
from rust_gauge.core.assay.results import results_field
from rust_gauge.core.assay.support import support_table
from rust_gauge.core.mime import words
from rust_gauge.documents.messages import message_document

_RECEIVER = "mx.receiver.example"  # who would write what was verified
REREAD = ("text", "html", "visible_text")  # of an assay: read out of the message again, not stored twice
_LONGEST_VALUE, _MOST_FIELDS, _MOST_LINKS = 2000, 500, 500


def assay_document(done: Examined) -> c.Assay:
    """Return what was found, with what the message consists of."""
    message, assay = done.message, done.assay
    return c.Assay(
        mark=assay.mark,
        worst=None if assay.worst is None else assay.worst.value,
        findings=[_finding(finding) for finding in assay.findings],
        not_checked=list(assay.not_checked),
        rules_dated=assay.rules_dated,
        size=len(message.raw),
        subject=message.value("Subject")[:_LONGEST_VALUE],
        header_from=message.value("From")[:_LONGEST_VALUE],
        preview_line=done.preview_line,
        fields=fields_document(message),
        parts=parts_document(message),
        links=links_document(done.links),
        text=message.text,
        html=message.html,
        visible_text=None if done.page is None else done.page.visible_text,
        support=None if done.page is None else _support(done),
        authentication=None if done.authentication is None else message_document(done.authentication),
        arc=None if done.arc is None else _arc(done.arc),
        sender=None if done.history is None else _sender(done.history),
        learned=None if done.learned is None else _learned(*done.learned),
        results_header=_results(done),
    )  # fmt: skip


def fields_document(message: Message) -> list[c.MessageField]:
    """Return the fields of the header, in order and explained."""
    return [
        c.MessageField(name=field.name, value=words(field.text)[:_LONGEST_VALUE], meaning=meaning_of(field.name))
        for field in message.mail.fields[:_MOST_FIELDS]
    ]


def parts_document(message: Message) -> list[c.MessagePart]:
    """Return the parts, in order."""
    return [
        c.MessagePart(
            number=part.number, type=part.type, size=part.size, charset=part.charset, encoding=part.encoding,
            disposition=part.disposition, file_name=part.file_name,
        )
        for part in message.parts
    ]  # fmt: skip


def links_document(links: Sequence[Link]) -> list[c.MessageLink]:
    """Return links, addresses of images and addresses in plain text."""
    return [
        c.MessageLink(url=link.url, text=link.text, kind=link.kind, host=link.host, place=_place(link.place))
        for link in links[:_MOST_LINKS]
    ]


def side_document(
    message: Message, page: Html | None, links: tuple[Link, ...], assay: c.Assay, path: Mapping[str, str]
) -> Side:
    """Return a message as it is compared, with what was found when it was examined."""
    taken = tuple(Taken(each.rule, each.group, each.title, each.points) for each in assay.findings)
    listed = [place.text for each in assay.findings if each.rule == "address-listed" for place in each.places]
    results: dict[str, str] = {}
    if (found := assay.authentication) is not None:
        results = result_texts(
            [(one.result, one.domain, one.selector) for one in found.signatures],
            None if found.spf is None else (found.spf.mail_from.result, found.spf.mail_from.domain),
            found.dmarc[0].result if found.dmarc else None,
        )
    return Side(message, page, links, assay.mark, taken, results, path, tuple(listed))


def comparison_document(done: Comparison, name: str, against: str) -> c.AssayComparison:
    """Return a comparison of two messages with these names."""
    return c.AssayComparison.model_validate(
        {
            "name": name, "against": against, "mark_before": done.mark_before, "mark_after": done.mark_after,
            "changes": [asdict(change) for change in done.changes],
            "points": [{**asdict(point), "because": list(point.because)} for point in done.points],
        }
    )  # fmt: skip


def _arc(done: ArcOutcome) -> c.ArcChain:
    sets = [c.ArcSet.model_validate({**asdict(each), "seal": each.seal.value}) for each in done.instances]
    return c.ArcChain(result=done.result.value, reason=done.reason, sets=sets)


def _sender(history: SenderHistory) -> c.SenderFacts:
    readings = sorted(history.readings.items(), key=lambda item: item[1])
    return c.SenderFacts(
        domain=history.domain, domain_since=history.domain_since, ip=history.ip, ip_since=history.ip_since,
        readings=[c.ProviderReading(provider=provider, reading=value) for provider, value in readings],
    )  # fmt: skip


def _learned(model: TextModel, verdict: TextVerdict) -> c.TextVerdictView:
    words = [c.WordShare(text=text, share=share) for text, share in verdict.words]
    return c.TextVerdictView(likeness=round(verdict.likeness, 3), words=words, right=model.right, of=model.of)


def _results(done: Examined) -> str:
    if done.authentication is None:
        return ""
    way = done.sending
    return results_field(_RECEIVER, done.authentication, done.arc, ip=way.ip, helo=way.helo, mail_from=way.mail_from)


def _support(done: Examined) -> c.HtmlSupport:
    dated, families, _ = support_table()
    return c.HtmlSupport.model_validate(
        {
            "dated": dated,
            "families": [asdict(each) for each in families.values()],
            "constructs": [
                {
                    "key": each.construct.key, "title": each.construct.title, "support": dict(each.construct.support),
                    "instead": each.construct.instead, "count": each.count,
                    "places": [_place(place) for place in each.places],
                }
                for each in done.unsupported
            ],
        }
    )  # fmt: skip


def _finding(finding: AssayFinding) -> c.AssayFinding:
    return c.AssayFinding(
        rule=finding.rule, group=finding.group, level=finding.level.value, title=finding.title, effect=finding.effect,
        remedy=finding.remedy, reference=finding.reference, points=finding.points, count=finding.count,
        places=[_place(place) for place in finding.places],
    )  # fmt: skip


def _place(place: Place) -> c.AssayPlace:
    return c.AssayPlace(
        where=place.where.value, name=place.name, line=place.line, column=place.column, text=place.text[:200]
    )
