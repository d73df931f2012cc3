"""Write the synchronous client from the asynchronous one: `python tools/sync_client.py [--check]`.

The two differ in a handful of words only, which are replaced token by token; ruff then puts the result in order.
"""

import io
import subprocess
import sys
import tokenize
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
SOURCE = ROOT / "src/rust_gauge/client/asynchronous"
TARGET = ROOT / "src/rust_gauge/client/synchronous"
NOTE = "\n# Made from `asynchronous` by tools/sync_client.py: change that one.\n"
DROPPED = {"async", "await"}
RENAMED = {
    "AsyncClient": "Client",
    "AsyncConnection": "Connection",
    "AsyncBaseTransport": "BaseTransport",
    "AsyncIterator": "Iterator",
    "__aenter__": "__enter__",
    "__aexit__": "__exit__",
    "aclose": "close",
    "aiter_bytes": "iter_bytes",
    "aread": "read",
    "asyncio": "time",
    "asynchronous": "synchronous",
}


def synchronous(source: str) -> str:
    """The synchronous form of an asynchronous module, not yet formatted."""
    lines = source.splitlines(keepends=True)
    changes: list[tuple[int, int, int, str]] = []
    for token in tokenize.generate_tokens(io.StringIO(source).readline):
        (row, begin), (_, end) = token.start, token.end
        if token.type == tokenize.NAME and token.string in DROPPED:
            changes.append((row, begin, end + 1, ""))  # with the blank behind it
        elif token.type == tokenize.NAME and token.string in RENAMED:
            changes.append((row, begin, end, RENAMED[token.string]))
    for row, begin, end, text in reversed(changes):
        line = lines[row - 1]
        lines[row - 1] = line[:begin] + text + line[end:]
    made = "".join(lines)
    end = made.index('"""', 3) + 3
    return made[:end].replace("asynchronous", "synchronous") + "\n" + NOTE + made[end:]


def formatted(text: str, target: Path) -> str:
    """In order as ruff has it, with `yield from` where a loop only hands on."""
    ruff = [sys.executable, "-m", "ruff"]
    fix = [*ruff, "check", "--select", "I,UP028", "--fix", "--unsafe-fixes", "-q", "--stdin-filename", str(target), "-"]
    fixed = subprocess.run(fix, input=text, capture_output=True, text=True, check=True, cwd=ROOT).stdout
    form = [*ruff, "format", "-q", "--stdin-filename", str(target), "-"]
    return subprocess.run(form, input=fixed, capture_output=True, text=True, check=True, cwd=ROOT).stdout


def main() -> int:
    wanted = {
        TARGET / path.name: formatted(synchronous(path.read_text("utf-8")), TARGET / path.name)
        for path in sorted(SOURCE.glob("*.py"))
    }
    if "--check" in sys.argv[1:]:
        there = {path: path.read_text("utf-8") for path in TARGET.glob("*.py")}
        if there != wanted:
            print("client/synchronous is not what client/asynchronous gives: run `make client`", file=sys.stderr)
            return 1
        return 0
    TARGET.mkdir(exist_ok=True)
    for path in set(TARGET.glob("*.py")) - wanted.keys():
        path.unlink()
    for path, text in wanted.items():
        path.write_text(text, "utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
