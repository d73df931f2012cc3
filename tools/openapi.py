"""Write the OpenAPI document for the console, and docs/api.md from it; with --check, say whether they are current.

The document is what the routes and the contract say; the console's types are generated from it (`make openapi`).
"""

import json
import sys
from pathlib import Path
from typing import Any

from rust_gauge.service.app import create_app
from rust_gauge.service.runtime.problems import KINDS

ROOT = Path(__file__).resolve().parent.parent
JSON = ROOT / "console" / "src" / "api" / "openapi.json"
MARKDOWN = ROOT / "docs" / "api.md"

_HEAD = """# The API

Generated from the OpenAPI document by `make openapi`; the service itself gives that document at
`/api/v1/openapi.json` (OpenAPI 3.1).

- **Who is asking.** Programs send `Authorization: Bearer rgt_...`; a token is made by `POST /api/v1/tokens` or
  `rustgauged token`. The console has a session cookie. A tenant that one may not see does not exist for one: 404.
- **Lists** come in pages: `items`, and `next` when there is more; pass it as `cursor`.
- **Errors** are problem documents (RFC 9457) with `type`, `title`, `status`, `detail`, `remedy`, `instance` (the
  request's id, also in the header `X-Request-Id` and in the log) and `errors`: where, what, and what to do.
- **Times** are RFC 3339; days are UTC. Rates are fractions: 0.001 is one in a thousand.

"""


def document() -> dict[str, Any]:
    return create_app(None).openapi()


def as_markdown(spec: dict[str, Any]) -> str:
    """Every call with its parameters, and every problem."""
    lines = [_HEAD + "## Calls\n"]
    for path, methods in spec["paths"].items():
        for method, call in methods.items():
            lines.append(f"### {method.upper()} {path}\n")
            lines.append(call.get("description", call.get("summary", "")).strip() + "\n")
            for parameter in call.get("parameters", []):
                if parameter["in"] == "query":
                    text = parameter.get("description", "")
                    lines.append(f"- `{parameter['name']}`" + (f": {text}" if text else ""))
            body = call.get("requestBody", {}).get("content", {})
            if body:
                lines.append("- body: " + ", ".join(f"{kind} {_schema(each)}".strip() for kind, each in body.items()))
            for status, response in call["responses"].items():
                if status.startswith("2"):
                    content = response.get("content", {}).get("application/json", {})
                    lines.append(f"- {status}: {_schema(content) or 'nothing'}")
            lines.append("")
    lines.append("## Problems\n\n| type | status | title | meaning |\n| --- | --- | --- | --- |")
    lines += [f"| /problems/{k.slug} | {k.status} | {k.title} | {k.meaning} |" for k in KINDS.values()]
    return "\n".join(lines) + "\n"


def _schema(content: dict[str, Any]) -> str:
    schema = content.get("schema", {})
    if "$ref" in schema:
        return f"`{schema['$ref'].rpartition('/')[2]}`"
    if schema.get("type") == "array":
        return f"list of {_schema({'schema': schema.get('items', {})})}"
    return ""


def main() -> int:
    spec = document()
    wanted = {JSON: json.dumps(spec, indent=1, ensure_ascii=False) + "\n", MARKDOWN: as_markdown(spec)}
    if "--check" in sys.argv:
        stale = [path for path, text in wanted.items() if not path.exists() or path.read_text("utf-8") != text]
        for path in stale:
            print(f"{path.relative_to(ROOT)} is not current: run make openapi")
        return 1 if stale else 0
    for path, text in wanted.items():
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, "utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
