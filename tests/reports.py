"""Reports of receivers for tests: aggregate (RFC 7489), TLS (RFC 8460) and failure (RFC 6591)."""

import gzip
from datetime import UTC, date, datetime, time
from email.message import EmailMessage
from typing import Any

DOMAIN = "wrack.example"
DAY = date(2026, 11, 18)
RECEIVER = "dunlin.example"


def record(
    ip: str, count: int, *, spf: bool = False, dkim: bool = False, header_from: str = DOMAIN,
    spf_domain: str = "", spf_result: str = "", sign: str = "", disposition: str = "none", reason: str = "",
) -> str:  # fmt: skip
    """Return a record. `spf` and `dkim` passed and aligned; `sign` is a domain whose signature passes unaligned."""
    result = spf_result or ("pass" if spf else "fail")
    signatures = [(header_from, "m1")] * dkim + [(sign, "k1")] * bool(sign)
    shown = "".join(
        f"<dkim><domain>{domain}</domain><selector>{selector}</selector><result>pass</result></dkim>"
        for domain, selector in signatures
    )
    why = f"<reason><type>{reason}</type><comment></comment></reason>" if reason else ""
    return (
        f"<record><row><source_ip>{ip}</source_ip><count>{count}</count><policy_evaluated>"
        f"<disposition>{disposition}</disposition><dkim>{'pass' if dkim else 'fail'}</dkim>"
        f"<spf>{'pass' if spf else 'fail'}</spf>{why}</policy_evaluated></row>"
        f"<identifiers><header_from>{header_from}</header_from></identifiers><auth_results>{shown}"
        f"<spf><domain>{spf_domain or header_from}</domain><result>{result}</result></spf></auth_results></record>"
    )


def aggregate(
    *records: str, receiver: str = "tidepost.example", id: str = "r-1", day: date = DAY, domain: str = DOMAIN
) -> bytes:
    """Return an aggregate report of a day (UTC)."""
    begin = int(datetime.combine(day, time(), UTC).timestamp())
    return (
        f'<?xml version="1.0"?><feedback><report_metadata><org_name>{receiver.partition(".")[0].title()}</org_name>'
        f"<email>dmarc@{receiver}</email><report_id>{id}</report_id><date_range><begin>{begin}</begin>"
        f"<end>{begin + 86_399}</end></date_range></report_metadata><policy_published><domain>{domain}</domain>"
        f"<p>none</p></policy_published>{''.join(records)}</feedback>"
    ).encode()


def tls(domain: str = DOMAIN, *, failed: int = 0, day: date = DAY) -> dict[str, Any]:
    """Return a TLS report of a day."""
    details = [{"result-type": "certificate-expired", "receiving-mx-hostname": f"mx1.{domain}",
                "failed-session-count": failed}]  # fmt: skip
    return {
        "organization-name": "Tidepost",
        "date-range": {"start-datetime": f"{day}T00:00:00Z", "end-datetime": f"{day}T23:59:59Z"},
        "contact-info": "tls@tidepost.example",
        "report-id": f"t-{day}",
        "policies": [
            {
                "policy": {"policy-type": "sts", "policy-domain": domain, "policy-string": ["version: STSv1"]},
                "summary": {"total-successful-session-count": 512, "total-failure-session-count": failed},
                "failure-details": details if failed else [],
            }
        ],
    }


FAILURE = f"""From: <dmarc@tidepost.example>
Message-ID: <f1@tidepost.example>
MIME-Version: 1.0
Content-Type: multipart/report; report-type=feedback-report; boundary="b"

--b
Content-Type: message/feedback-report

Feedback-Type: auth-failure
User-Agent: Tidepost/1.0
Version: 1
Arrival-Date: Wed, 18 Nov 2026 08:00:00 +0000
Source-IP: 203.0.113.77
Reported-Domain: {DOMAIN}
Auth-Failure: dmarc
--b--
""".encode()


def report_mail(id: str, *, header_from: str = f"reports@{RECEIVER}") -> bytes:
    """A report as receivers mail it."""
    message = EmailMessage()
    message["From"] = header_from
    message["To"] = f"dmarc@{DOMAIN}"
    message["Subject"] = f"Report Domain: {DOMAIN} Submitter: {RECEIVER} Report-ID: {id}"
    message.set_content("This is an aggregate report.")
    octets = gzip.compress(aggregate(record("192.0.2.9", 7), id=id, receiver=RECEIVER))
    message.add_attachment(
        octets, maintype="text", subtype="plain", filename="report.xml.gz"
    )  # the type is often wrong
    return bytes(message).replace(b"\n", b"\r\n")
