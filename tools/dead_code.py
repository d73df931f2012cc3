"""Functions, methods, classes and properties that nothing uses: `python tools/dead_code.py`. Exit status 1 when any is.

What frameworks call by name or by decorator is left out, and so are fields of models and the methods of the client
library, which are for others.
"""

import re
import sys
from pathlib import Path

from vulture import Vulture

ROOT = Path(__file__).resolve().parent.parent
LOOKED_AT = {"function", "method", "class", "property", "import", "unreachable_code"}
# Called by asyncio, http.server, smtplib, aiosmtpd, pydantic-settings, argparse, Alembic, Prometheus, or by getattr.
CALLED_BY_NAME = re.compile(
    r"(connection_(made|lost)|data(gram)?_received|do_(GET|POST)|log_message|handle|handle_\w+|factory|error|collect|connect_tcp|start_tls|get_extra_info|readline|getreply|_get_socket|get_request|on_response_complete|"
    r"settings_customise_sources|upgrade|open_rate|_check_value|__\w+__)$"
)
DECORATORS = [
    "@router.*", "@app.*", "@*.exception_handler", "@field_validator", "@model_validator", "@*.validator",
    "@pytest.*", "@given", "@settings",
]  # fmt: skip
OF_OTHERS = ("src/rust_gauge/client/", "tests/")


def main() -> int:
    vulture = Vulture(ignore_names=[], ignore_decorators=DECORATORS)
    vulture.scavenge([str(ROOT / name) for name in ("src/rust_gauge", "tests", "bench", "tools")])
    found = 0
    for item in vulture.get_unused_code(min_confidence=60):
        path = Path(item.filename).resolve().relative_to(ROOT)
        if item.typ not in LOOKED_AT or str(path).startswith(OF_OTHERS) or CALLED_BY_NAME.match(item.name):
            continue
        found += 1
        print(f"{path}:{item.first_lineno}: nothing uses the {item.typ} {item.name}", file=sys.stderr)
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
