"""Which stream mail of ours in a report belongs to: by the relay that it came over, its From, keys and envelope.

Reports name no stream. What they tell leaves one of the planned paths, or several; all that are left are named, so that
nothing is said to be known that is not.
"""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

from rust_gauge.core.sending import SendingPath


@dataclass(frozen=True, slots=True)
class MailShown:
    """What a report shows of mail: the source that it belongs to (a relay, a stream, a host or a network) and its
    identifiers. `keys` are (d=, selector) of its signatures, whether they hold or not."""

    source: str
    header_from: str
    envelope: str
    keys: tuple[tuple[str, str], ...]


def streams_of(mail: MailShown, paths: Iterable[SendingPath]) -> tuple[str, ...]:
    """Return the streams that mail may belong to, in the order of the plan; none where no path fits its source."""
    left = [path for path in paths if mail.source and mail.source in (path.relay_name, path.stream)]
    fits: Sequence[Callable[[SendingPath], bool]] = (
        lambda path: path.header_from == mail.header_from,
        lambda path: any(key in mail.keys for key in path.keys),
        lambda path: path.envelope != "" and path.envelope == mail.envelope,
    )
    for fit in fits:  # what fits none of those that are left says nothing about them
        left = [path for path in left if fit(path)] or left
    return tuple(dict.fromkeys(path.stream for path in left))
