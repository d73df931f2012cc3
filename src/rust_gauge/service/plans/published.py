"""The DMARC record that a domain publishes now, or that covers it."""

from rust_gauge.core.dmarc import is_dmarc1
from rust_gauge.core.dns import DnsProgram, ask
from rust_gauge.service.runtime.context import Context

_WITHIN = 10.0  # seconds


def published_policy(context: Context, domain: str) -> str:
    """Return the record at `_dmarc` of a domain; empty where there is none, several, or no answer."""

    def program() -> DnsProgram[str]:
        answer = yield from ask(f"_dmarc.{domain}", "TXT")
        records = [each.text for each in answer.texts if is_dmarc1(each.text)]
        return records[0] if len(records) == 1 else ""

    return context.resolver.run(program(), within=_WITHIN)
