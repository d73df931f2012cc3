"""Writing the audit log: who did what to what, with what was there before and after.

No secret and no recipient gets into it: entries are never changed, so nothing could be taken out again. A recipient's
address becomes a short digest, by which entries about the same address can be found.
"""

import re
from hashlib import blake2b
from typing import Any

import orjson
import structlog

from rust_gauge.service.runtime.context import Context
from rust_gauge.store import audit_log as store
from rust_gauge.store.accounts import Principal
from rust_gauge.store.audit_log import AuditEntry
from rust_gauge.store.engine import StoreError

log = structlog.get_logger()
_MOST = 16_000  # characters of a state that are kept
_SECRETS = frozenset(
    {
        "password", "current", "new", "secret", "token", "key", "keys", "code", "codes", "recovery_codes", "link",
        "authorization", "private_key", "tsig_secret",
    }
)  # fmt: skip
HIDDEN = "(hidden)"
_ADDRESS = re.compile(r"[^\s<>(),;:\"'\[\]{}]{1,128}@[^\s<>(),;:\"'\[\]{}]{1,255}")


def record(
    context: Context, action: str, *, principal: Principal | None = None, account: str = "",
    tenant_id: int | None = None, address: str = "", request_id: str = "", subject: str = "", before: Any = None,
    after: Any = None, about_people: bool = False,
) -> None:  # fmt: skip
    """Add an entry. `account` where nobody is signed in; `about_people`: addresses in it are those of accounts.

    What was done stays done when the database goes away just now: then the log of the service has the entry.
    """
    hide = (lambda text: text) if about_people else hide_recipients
    entry = AuditEntry(
        at=context.clock(), tenant_id=tenant_id, account=principal.email if principal else account[:254],
        token=f"{principal.token_id}: {principal.token_name}"[:100] if principal and principal.token_id else "",
        address=address[:45], request_id=request_id[:32], action=action, subject=hide(subject)[:500],
        before_state=_text(before, hide), after_state=_text(after, hide),
    )  # fmt: skip
    try:
        context.store.transaction(lambda c: store.add_entry(c, entry))
    except StoreError as error:
        log.error(
            "audit_entry_not_stored", action=action, account=entry.account, subject=entry.subject, error=str(error)
        )


def hide_recipients(text: str) -> str:
    """Return a text with each address replaced by a digest of it."""
    return _ADDRESS.sub(lambda found: f"(address {digest_of(found[0])})", text) if "@" in text else text


def digest_of(address: str) -> str:
    """Return the short digest that stands for an address."""
    return blake2b(address.lower().encode("utf-8", "replace"), digest_size=6).hexdigest()


def _text(value: Any, hide: Any) -> str:
    if value is None or value == "":
        return ""
    text = orjson.dumps(_masked(value, hide), option=orjson.OPT_NON_STR_KEYS).decode()
    return text if len(text) <= _MOST else orjson.dumps({"cut": text[:_MOST]}).decode()


def _masked(value: Any, hide: Any) -> Any:
    if isinstance(value, str):
        return hide(value)
    if isinstance(value, list):
        return [_masked(part, hide) for part in value[:200]]
    if isinstance(value, dict):
        return {
            hide(name): HIDDEN if name in _SECRETS and part not in (None, "", []) else _masked(part, hide)
            for name, part in value.items()
        }
    return value
