"""Dynamic updates of a zone (RFC 2136), signed with TSIG (RFC 8945), over TCP.

Every change carries its RRset as it was as a prerequisite, so that the server refuses all of it when somebody else
changed one in the meantime: an update is done whole or not at all (RFC 2136 §3.7).
"""

from collections.abc import Sequence
from dataclasses import dataclass

import dns.exception
import dns.name
import dns.query
import dns.rcode
import dns.tsig
import dns.tsigkeyring
import dns.update

from rust_gauge.core.errors import RustGaugeError
from rust_gauge.core.recordplan import RrsetChange

ALGORITHMS = ("hmac-sha256", "hmac-sha384", "hmac-sha512")
_MEANING = {
    dns.rcode.NXRRSET: ("Something there is not as it was when the change was shown", "Look at the change again"),
    dns.rcode.YXRRSET: ("Something stands there that did not when it was shown", "Look at the change again"),
    dns.rcode.REFUSED: ("The server refuses this change for this key", "Allow it in the zone's update policy"),
    dns.rcode.NOTAUTH: ("The server does not take the key", "Check name, algorithm and secret of the key, and zone"),
    dns.rcode.NOTZONE: ("A name is not in the zone", "Check the zone of the update server"),
}  # fmt: skip


class UpdateFailed(RustGaugeError):
    """The zone was not changed."""


class KeyRefused(UpdateFailed):
    """The server does not know the key, or not this secret of it. Another key may work."""


@dataclass(frozen=True, slots=True)
class UpdateServer:
    """Where a zone is changed, and the key. `secret` is in base64, as name servers' tools write it."""

    address: str
    port: int
    zone: str
    key_name: str
    algorithm: str
    secret: str

    @property
    def where(self) -> str:
        """`address:port`, as questions name a server."""
        return f"[{self.address}]:{self.port}" if ":" in self.address else f"{self.address}:{self.port}"


def send_update(server: UpdateServer, changes: Sequence[RrsetChange], timeout: float = 10.0) -> None:
    """Make the changes, all or none. UpdateFailed says why not, and what to do."""
    try:
        keyring = dns.tsigkeyring.from_text({server.key_name: (server.algorithm, server.secret)})
        message = dns.update.UpdateMessage(server.zone, keyring=keyring)
        for change in changes:
            name = dns.name.from_text(change.name)
            if change.before:
                message.present(name, change.rdtype, *change.before)
                message.delete(name, change.rdtype)
            else:
                message.absent(name, change.rdtype)
            for value in change.after:
                message.add(name, change.ttl, change.rdtype, value)
        response = dns.query.tcp(message, server.address, timeout=timeout, port=server.port)
    except dns.tsig.PeerError as error:
        what, remedy = _MEANING[dns.rcode.NOTAUTH]
        raise KeyRefused(what, why=type(error).__name__, remedy=remedy) from None
    except (dns.exception.Timeout, OSError, EOFError) as error:
        why = str(error) or type(error).__name__
        remedy = "Check its address and that it takes TCP from here"
        raise UpdateFailed(f"{server.address} port {server.port} cannot be reached", why=why, remedy=remedy) from None
    except (dns.exception.DNSException, ValueError) as error:
        why = str(error) or type(error).__name__
        raise UpdateFailed("The update cannot be made", why=why[:200], remedy="Check the key's secret") from None
    rcode = response.rcode()
    if rcode != dns.rcode.NOERROR:
        what, remedy = _MEANING.get(rcode, (f"The server answered {dns.rcode.to_text(rcode)}", "See its log"))
        refused = KeyRefused if rcode == dns.rcode.NOTAUTH else UpdateFailed
        raise refused(what, why=dns.rcode.to_text(rcode), remedy=remedy)
