"""Write the table of rules into docs/audit.md from the catalogue; `--check` compares."""

import sys
from pathlib import Path

from rust_gauge.core.audit.catalogue import RULES

PAGE = Path(__file__).resolve().parent.parent / "docs" / "audit.md"
MARK = "<!-- rules -->"


def main() -> int:
    text = PAGE.read_text("utf-8")
    head = text.partition(MARK)[0]
    table = "| rule | what it found |\n| --- | --- |\n" + "".join(f"| `{r}` | {said} |\n" for r, said in RULES.items())
    made = f"{head}{MARK}\n\n{table}"
    if "--check" in sys.argv:
        if made != text:
            print("docs/audit.md is not of this catalogue: run python tools/audit_rules.py")
        return int(made != text)
    PAGE.write_text(made, "utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
