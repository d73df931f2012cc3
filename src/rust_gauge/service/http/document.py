"""The OpenAPI document: what FastAPI derives from the routes, completed.

Adds the problems that can occur as `application/problem+json`, the bodies that routes read as streams, and an example
for every schema.
"""

import json
from typing import Any

from rust_gauge.contract.events import NewEvent
from rust_gauge.service.runtime.problems import KINDS

_PROBLEM = {"$ref": "#/components/schemas/Problem"}
_ALWAYS = (400, 401, 403, 404, 422, 429, 500, 503)
_OF_CHANGES = (409, 413, 415, 502)  # also where a body comes in, or something outside is asked
_OF_PUBLIC = (400, 422, 429, 500, 503)
_PUBLIC = ("sign_in", "receive")

_EVENTS = "A list of events"
_DOCUMENT = "A document; a list of documents is accepted as well"
# Bodies that may be packed, and what proves where a body comes from.
_PACKED = ("load_events", "stream_events", "receive", "send_to_feed")
_PACKED_HEADERS = (
    (
        "Content-Encoding",
        "How the body is packed, if it is (RFC 9110 §8.4)",
        {"type": "string", "enum": ["gzip", "x-gzip", "zstd", "identity", ""]},
    ),
)
_SIGNATURE_HEADERS = (
    ("webhook-id", "Id of the call, part of what is signed", {"type": "string"}),
    ("webhook-timestamp", "Unix time in seconds, part of what is signed; at most five minutes ago", {"type": "string"}),
    (
        "webhook-signature",
        "v1, and the base64 HMAC-SHA-256 of id, time and body; without it a token is required",
        {"type": "string"},
    ),
)
# Bodies that are read as they come, by operation: content type and what it holds.
_STREAMS: dict[str, dict[str, str]] = {
    "load_events": {"application/json": _EVENTS},
    "stream_events": {"application/x-ndjson": "One event per line (schema NewEvent)"},
    "receive": {
        "application/x-ndjson": "One event or source document per line", "application/json": _DOCUMENT,
        "text/csv": "A header line, then one event per line", "message/rfc822": "One message",
        "application/mbox": "Messages", "text/plain": "Lines of an MTA log",
    },
    "send_to_feed": {
        "application/x-ndjson": "One event or source document per line", "application/json": _DOCUMENT,
        "text/csv": "A header line, then one event per line", "message/rfc822": "One message",
        "application/mbox": "Messages", "text/plain": "Lines of an MTA log",
    },
    "receive_recipients": {"application/json": "What a form posts, with addresses at the path of the source"},
    "stream_clearance": {"application/x-ndjson": 'One address per line: a string, or {"address": ...}'},
    "add_job_piece": {"application/octet-stream": "A piece of the file"},
    "check_message": {"message/rfc822": "The message as it was captured"},
    "assay_message": {"message/rfc822": "The message as it was or will be sent"},
    "add_caught_message": {"message/rfc822": "The message as it was or will be sent"},
    "put_placement_message": {"message/rfc822": "The message that is copied"},
    "put_placement_schedule_message": {"message/rfc822": "The message that is copied"},
    "read_feedback_report": {"application/octet-stream": "XML, JSON, gzip, zip, or a message that carries one of them"},
    "receive_tls_report": {"application/octet-stream": "JSON, plain or gzip"},
    "set_report_logo": {"application/octet-stream": "A PNG or JPEG picture"},
    "add_receiver_report": {"application/octet-stream": "XML, JSON, gzip, zip, or a message that carries one of them"},
}  # fmt: skip
_ANYTHING = ("message/rfc822", "application/x-ndjson")
_MAY_BE_EMPTY = ("stream_clearance", "add_job_piece")
_ANSWERS: dict[str, dict[str, str]] = {
    "receive_recipients": {"application/json": "What a form posts, with addresses at the path of the source"},
    "stream_clearance": {"application/x-ndjson": "One answer per line (schema ClearanceAnswer)"},
    "export_suppression": {"text/csv": "One entry per line", "application/x-ndjson": "One entry per line"},
    "get_job_part": {"application/octet-stream": "The rows as they were sent"},
    "get_caught_source": {"message/rfc822": "The message as it came"},
    "get_placement_message": {"message/rfc822": "The message that is copied"},
    "get_placement_schedule_message": {"message/rfc822": "The message that is copied"},
    "get_caught_part": {"application/octet-stream": "The decoded octets"},
    "get_report_original": {"application/octet-stream": "The report as it came"},
}

_EVENT = {
    "kind": "bounced", "time": "2026-11-20T08:00:00Z", "domain": "news.glasswort.example", "stream": "newsletter",
    "relay": "driftline", "recipient": "kim@tidepost.example", "message_id": "m1", "reply_code": 550,
    "diagnostic": "550 5.1.1 no such mailbox",
}  # fmt: skip
_EXAMPLES = {
    "application/x-ndjson": json.dumps(_EVENT) + "\n",
    "application/json": _EVENT,
    "text/csv": "kind,time,domain,recipient,reply_code,diagnostic\n"
    "bounced,2026-11-20T08:00:00Z,news.glasswort.example,kim@tidepost.example,550,550 5.1.1 no such mailbox\n",
    "message/rfc822": "From: bounces@driftline.example\r\nTo: reports@glasswort.example\r\n"
    "Subject: Undelivered mail\r\n\r\nNo such mailbox\r\n",
}
_ADDRESS_LINES = json.dumps({"address": "kim@tidepost.example"}) + "\n"

# Values of examples by the name of a field, from the demo scenario.
_VALUES: dict[str, Any] = {
    "tenant": "glasswort", "slug": "glasswort", "tenant_name": "Glasswort Theatre", "domain": "news.glasswort.example",
    "header_from": "news.glasswort.example", "zone": "glasswort.example", "stream": "newsletter", "relay": "driftline",
    "provider": "tidepost.example", "label": "Tidepost", "address": "kim@tidepost.example",
    "recipient": "kim@tidepost.example", "email": "isla@skerry.example", "by": "isla@skerry.example",
    "ip": "192.0.2.10", "sending_ip": "192.0.2.10", "source_ip": "192.0.2.10", "url": "https://desk.glasswort.example/hook",
    "selector": "d1", "campaign": "spring-a", "diagnostic": "550 5.1.1 no such mailbox", "message_id": "m1",
    "reply_code": 550, "enhanced_code": "5.1.1", "title": "2 SPF records on copperline.example", "day": "2026-11-20",
    "name": "news.glasswort.example", "text": "The list was cleaned", "reason": "manual", "cause": "no_such_mailbox",
}  # fmt: skip


def completed(document: dict[str, Any]) -> dict[str, Any]:
    """Return the document with problems, streamed bodies and examples."""
    schemas = document["components"]["schemas"]
    schemas.setdefault("NewEvent", NewEvent.model_json_schema(ref_template="#/components/schemas/{model}"))
    for path, methods in document["paths"].items():
        for method, call in methods.items():
            _add_problems(path, method, call)
            _add_streams(call)
    for schema in schemas.values():
        if "example" not in schema and "examples" not in schema:
            schema["examples"] = [example_of(schema, schemas, ())]
    return document


def _add_problems(path: str, method: str, call: dict[str, Any]) -> None:
    operation = call.get("operationId", "")
    statuses = set(_OF_PUBLIC if operation in _PUBLIC else _ALWAYS if path.startswith("/api/") else ())
    if statuses and method != "get":
        statuses |= set(_OF_CHANGES) | ({401} if operation in _PUBLIC else set())
    for status in [status for status in call["responses"] if status.startswith(("4", "5"))]:
        del call["responses"][status]
    for status in sorted(statuses):
        titles = [kind.title for kind in KINDS.values() if kind.status == status]
        call["responses"][str(status)] = {
            "description": "; ".join(titles),
            "content": {"application/problem+json": {"schema": _PROBLEM}},
        }


def _add_streams(call: dict[str, Any]) -> None:
    operation = call.get("operationId", "")
    if operation in _STREAMS:
        content: dict[str, dict[str, Any]] = {}
        for kind, what in _STREAMS[operation].items():
            content[kind] = {"schema": _text(kind, what)}
            if kind in _EXAMPLES:
                content[kind]["example"] = _ADDRESS_LINES if operation == "stream_clearance" else _EXAMPLES[kind]
            if what == _EVENTS:
                content[kind]["example"] = [_EVENT]
        call["requestBody"] = {"required": operation not in _MAY_BE_EMPTY, "content": content}
    if operation in _PACKED:
        headers = (*_PACKED_HEADERS, *(_SIGNATURE_HEADERS if operation == "receive" else ()))
        call["parameters"] += [
            {"name": name, "in": "header", "required": False, "description": what, "schema": schema}
            for name, what, schema in headers
        ]
    if operation in _ANSWERS:
        content = {kind: {"schema": _text(kind, what)} for kind, what in _ANSWERS[operation].items()}
        call["responses"]["200"] = {"description": "The rows, as they are read", "content": content}


def _text(kind: str, what: str) -> dict[str, Any]:
    if what == _EVENTS:
        return {"type": "array", "description": what, "items": {"$ref": "#/components/schemas/NewEvent"}}
    if kind == "application/json":
        return {"type": "object", "description": what, "additionalProperties": True}
    if kind in _ANYTHING:
        return {"description": what}  # any text at all is taken, and answered line by line or with findings
    binary = kind == "application/octet-stream"
    return {"type": "string", "description": what, **({"format": "binary"} if binary else {})}


def example_of(schema: dict[str, Any], schemas: dict[str, Any], above: tuple[str, ...], name: str = "") -> Any:
    """Return a value that the schema accepts. `above`: names of the schemas that it is part of, against recursion."""
    if "$ref" in schema:
        target = schema["$ref"].rpartition("/")[2]
        return None if target in above else example_of(schemas[target], schemas, (*above, target), name)
    for given in ("examples", "enum"):
        if schema.get(given):
            return schema[given][0]
    for given in ("example", "const", "default"):
        if given in schema:
            return schema[given]
    for given in ("anyOf", "oneOf", "allOf"):
        if given in schema:
            return example_of(schema[given][0], schemas, above, name)
    kind = schema.get("type")
    if kind == "object" or "properties" in schema:
        wanted = schema.get("properties", {})
        return {key: example_of(part, schemas, above, key) for key, part in wanted.items()}
    if kind == "array":
        recursive = schema.get("items", {}).get("$ref", "").rpartition("/")[2] in above
        return [] if recursive else [example_of(schema.get("items", {}), schemas, above, name)]
    return _scalar(schema, kind, name)


def _scalar(schema: dict[str, Any], kind: str | None, name: str) -> Any:
    if kind == "string":
        if schema.get("format") == "date-time":
            return "2026-11-20T08:00:00Z"
        if schema.get("format") == "date":
            return "2026-11-20"
        value = _VALUES.get(name, "text")
        return str(value)[: schema.get("maxLength", 200)] if isinstance(value, str) else "text"
    if kind in ("integer", "number"):
        low = schema.get("minimum", schema.get("exclusiveMinimum", 0))
        return max(1, int(low)) if kind == "integer" else max(0.5, float(low))
    if kind == "boolean":
        return True
    return None
