"""Audits from answers that are held, against what any parser has to do: building the networks from their text."""

import ipaddress

import dns.rdata
import dns.rdataclass
import dns.rdatatype

from bench.world import Bench, Figure, middle_of
from rust_gauge.core.audit import AuditRequest, audit_domain
from rust_gauge.core.dns import AnswerStatus, DnsAnswer, DnsQuestion, drive

_NETWORKS = [f"198.51.100.{n * 8}/29" for n in range(20)]
_WORLD = {
    ("d.example", "TXT"): "v=spf1 include:a.r.example include:b.r.example include:c.r.example -all",
    ("a.r.example", "TXT"): "v=spf1 " + " ".join(f"ip4:{n}" for n in _NETWORKS[:7]) + " -all",
    ("b.r.example", "TXT"): "v=spf1 " + " ".join(f"ip4:{n}" for n in _NETWORKS[7:14]) + " -all",
    ("c.r.example", "TXT"): "v=spf1 " + " ".join(f"ip4:{n}" for n in _NETWORKS[14:]) + " -all",
    ("_dmarc.d.example", "TXT"): "v=DMARC1; p=reject; rua=mailto:r@d.example",
}


def _answers() -> dict[DnsQuestion, DnsAnswer]:
    out = {}
    for (name, rdtype), value in _WORLD.items():
        question = DnsQuestion(name, rdtype)
        rdata = dns.rdata.from_text(dns.rdataclass.IN, dns.rdatatype.TXT, f'"{value}"')
        out[question] = DnsAnswer(question, AnswerStatus.FOUND, (rdata,), 300)
    return out


def run(_: Bench) -> list[Figure]:
    held = _answers()

    def answer_all(questions: tuple[DnsQuestion, ...]) -> tuple[DnsAnswer, ...]:
        return tuple(held.get(q) or DnsAnswer(q, AnswerStatus.NO_NAME) for q in questions)

    request = AuditRequest("d.example")
    drive(audit_domain(request), answer_all)
    rounds = 300
    ours = middle_of(5, lambda: [drive(audit_domain(request), answer_all) for _ in range(rounds)]) / rounds
    floor = middle_of(5, lambda: [ipaddress.ip_network(_NETWORKS[n % 20]) for n in range(rounds * 20)]) / rounds / 20
    return [
        Figure(
            "audit of one domain from held answers (3 includes, 20 networks)",
            f"{ours * 1e6:.0f} µs",
            f"{floor * 1e6:.2f} µs one ip_network()",
            ours / floor,
            "-",
        )
    ]
