"""How schemathesis sends bodies of kinds that it does not know (SCHEMATHESIS_HOOKS names this module)."""

import json
from typing import Any

import schemathesis


@schemathesis.serializer("application/x-ndjson")
def lines_of_json(context: Any, value: Any) -> bytes:
    """Return a line for each value of a list."""
    values = value if isinstance(value, list) else [value]
    return b"".join(json.dumps(each, default=str).encode() + b"\n" for each in values)


@schemathesis.serializer("message/rfc822", "application/mbox")
def text(context: Any, value: Any) -> bytes:
    """Return the text as octets."""
    return value if isinstance(value, bytes) else str(value).encode("utf-8", "surrogatepass")
