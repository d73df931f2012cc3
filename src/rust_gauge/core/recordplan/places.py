"""Where a record ends up when it is typed at the wrong name: the usual slips, so that it can be looked for there."""

from collections.abc import Iterator
from dataclasses import dataclass

from rust_gauge.core.recordplan.record import PlannedRecord, Purpose

USUAL_SELECTORS = ("default", "dkim", "mail", "k1", "s1", "s2", "key1", "selector1", "selector2")


@dataclass(frozen=True, slots=True)
class WrongPlace:
    """A name to look at. `cause` is a stable word, `text` says how it came about.

    `strict`: something of the same kind may rightly stand there, so only the very value counts.
    """

    name: str
    cause: str
    text: str
    strict: bool = False


def wrong_places(record: PlannedRecord, domain: str, selectors: tuple[str, ...] = ()) -> tuple[WrongPlace, ...]:
    """Names where a record may have been put in place of its own, the likeliest first, each once."""
    found: dict[str, WrongPlace] = {}
    for place in _places(record, domain, selectors):
        if place.name != record.name and len(place.name) < 254:
            found.setdefault(place.name, place)
    return tuple(found.values())


def _places(record: PlannedRecord, domain: str, selectors: tuple[str, ...]) -> Iterator[WrongPlace]:
    name, zone = record.name, record.zone
    host = "" if name == zone else name.removesuffix(f".{zone}")
    if record.elsewhere:
        return
    twice = "the zone name appears twice: the panel appends it, so enter only the part before it"
    yield WrongPlace(f"{name}.{zone}", "zone-twice", twice)
    if domain != zone and name.endswith(f".{domain}") and host:
        yield WrongPlace(f"{host}.{domain}", "subdomain-twice", "the subdomain appears twice in the host")
        yield WrongPlace(f"{name}.{domain}", "zone-twice", twice)
    if not host:
        yield WrongPlace(
            f"@.{zone}", "at-sign", "the panel read @ as a name: leave the host empty, or enter the domain"
        )
    yield from _by_purpose(record, domain, selectors)
    if domain != zone and name.endswith(f".{domain}"):  # late: it may rightly stand there for the organisation
        part = name.removesuffix(f".{domain}")
        yield WrongPlace(f"{part}.{zone}", "subdomain-left-out",
                         f"the subdomain is missing in the host: it belongs at {host} (unless it is the organisation's own)", strict=True)  # fmt: skip
    labels = name.split(".")
    if any(label.startswith("_") for label in labels):
        bare = ".".join(label.removeprefix("_") for label in labels)
        yield WrongPlace(bare, "underscore-missing", "the underscore is missing in the host")
        first = ".".join([labels[0].removeprefix("_"), *labels[1:]])
        yield WrongPlace(first, "underscore-missing", "the underscore is missing in the host")
        dashed = ".".join("-" + label[1:] if label.startswith("_") else label for label in labels)
        yield WrongPlace(dashed, "hyphen-for-underscore", "the host begins with a hyphen instead of an underscore")
        yield WrongPlace(domain, "at-the-domain", "it is at the domain itself; the host was omitted", strict=True)
    yield WrongPlace(f"\\032{name}", "blank-in-host", "a space was pasted before the host")
    yield WrongPlace(f"{labels[0]}\\032.{'.'.join(labels[1:])}", "blank-in-host", "a space was pasted after the host")
    if host:
        yield WrongPlace(f'\\"{host}\\".{zone}', "quotes-in-host", "quotes were pasted around the host")
        yield WrongPlace(f"{host}.www.{zone}", "at-www", "it is below www")
    else:
        yield WrongPlace(f"www.{zone}", "at-www", "it is at www instead of the domain itself", strict=True)


def _by_purpose(record: PlannedRecord, domain: str, selectors: tuple[str, ...]) -> Iterator[WrongPlace]:
    name = record.name
    if record.purpose is Purpose.DKIM and "._domainkey." in name:
        selector, _, rest = name.partition("._domainkey.")
        without = "_domainkey is missing in the host"
        yield WrongPlace(f"{selector}.{rest}", "domainkey-missing", without)
        yield WrongPlace(f"_domainkey.{rest}", "selector-missing", "the selector is missing in the host")
        yield WrongPlace(f"_domainkey.{selector}.{rest}", "labels-swapped", "selector and _domainkey are swapped")
        yield WrongPlace(
            f"{selector}.domainkey.{rest}", "underscore-missing", "the underscore of _domainkey is missing"
        )
        yield WrongPlace(f"{name.partition('.')[0]}._domainkey._domainkey.{rest}", "domainkey-twice",
                         "_domainkey appears twice: the panel appends it")  # fmt: skip
        for wrong in ("_domainkeys", "_domain_key", "_domain-key", "_domainskey", "_dkim", "_domankey", "-domainkey"):
            yield WrongPlace(f"{selector}.{wrong}.{rest}", "domainkey-misspelt", f"_domainkey is written {wrong}")
        for joint in ("_", "-", ""):
            yield WrongPlace(f"{selector}{joint}domainkey.{rest}", "dot-missing",
                             "the dot between selector and _domainkey is missing")  # fmt: skip
        yield WrongPlace(f"{selector}_domainkey.{rest}", "dot-missing", "the dot before _domainkey is missing")
        yield WrongPlace(
            f"_{selector}._domainkey.{rest}", "underscore-too-many", "an underscore is before the selector"
        )
        for other in dict.fromkeys((*selectors, *USUAL_SELECTORS)):
            yield WrongPlace(
                f"{other}._domainkey.{rest}", "other-selector", f"it is at the selector {other}", strict=True
            )
    elif record.purpose is Purpose.DMARC and name.startswith("_dmarc."):
        rest = name.removeprefix("_dmarc.")
        yield WrongPlace(
            f"dmarc.{rest}", "underscore-missing", "the underscore is missing: the host is _dmarc, not dmarc"
        )
        yield WrongPlace(f"_dmarc._dmarc.{rest}", "label-twice", "_dmarc appears twice: the panel appends it")
        for wrong in (
            "_dmark",
            "_demarc",
            "_dmrac",
            "_dmarc1",
            "_dmarc_",
            "__dmarc",
            "_domainkey",
            "_dkim",
            "_spf",
            "_dmarc.mail",
        ):
            yield WrongPlace(f"{wrong}.{rest}", "host-misspelt", f"_dmarc is written {wrong}")
    elif record.purpose is Purpose.SPF:
        for wrong in ("spf", "_spf", "txt", "spf1", "_spf1", "v=spf1"):
            yield WrongPlace(f"{wrong}.{name}", "host-too-much",
                             f"it is at {wrong}: SPF belongs at the domain itself", strict=wrong != "txt")  # fmt: skip
    elif record.purpose is Purpose.TLS_RPT:
        rest = name.removeprefix("_smtp._tls.")
        for wrong in ("_tls._smtp", "smtp._tls", "_smtp.tls", "_smtp-tls", "_smtp_tls", "_tls", "_tlsrpt", "_smtp"):
            yield WrongPlace(f"{wrong}.{rest}", "host-misspelt", f"_smtp._tls is written {wrong}")
    elif record.purpose is Purpose.MTA_STS and record.rdtype == "TXT":
        rest = name.removeprefix("_mta-sts.")
        for wrong in ("mta-sts", "_mta_sts", "_mtasts", "_mta-sts._mta-sts", "_sts", "_smtp._mta-sts"):
            yield WrongPlace(f"{wrong}.{rest}", "host-misspelt", f"_mta-sts is written {wrong}")
