"""The twelve pieces: a number, a name for files, a title, and both walks."""

from collections.abc import Callable
from dataclasses import dataclass

from tests.days import by_console, by_terminal
from tests.days.walking import Terminal, Walk


@dataclass(frozen=True, slots=True)
class Piece:
    """One piece of the work."""

    number: int
    name: str
    console: Callable[[Walk], None]
    terminal: Callable[[Terminal], None]

    @property
    def file(self) -> str:
        """The name of its page in docs/days, without an ending."""
        return f"{self.number:02}-{self.name}"


PIECES = tuple(
    Piece(number, name.replace("_", "-"), getattr(by_console, name), getattr(by_terminal, name))
    for number, name in enumerate(
        ("subdomain", "failing_key", "server", "pipeline", "person", "brought_list", "another_score", "staging",
         "landing", "warm_up", "proving", "monday"), 1,
    )
)  # fmt: skip
