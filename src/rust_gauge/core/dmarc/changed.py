"""A policy record with some of its tags changed and all others kept as they are published (RFC 7489 §6.3)."""

from collections.abc import Mapping

_ORDER = ("v", "p", "sp", "np", "pct", "t", "adkim", "aspf", "rua", "ruf", "fo", "rf", "ri", "psd")
_DEFAULTS = {"pct": "100", "t": "n", "adkim": "r", "aspf": "r"}


def changed_policy(published: str, changes: Mapping[str, str]) -> str:
    """Return a record with tags changed; an empty value takes a tag out, and so does one that is the default anyway.

    `published` may be empty: then the record has the changed tags only. Tags of an unknown name are kept, at the end.
    """
    tags: dict[str, str] = {}
    for part in published.split(";"):
        name, found, value = part.partition("=")
        if found and name.strip():
            tags[name.strip().lower()] = value.strip()
    tags["v"] = "DMARC1"
    for name, value in changes.items():
        if not value or (_DEFAULTS.get(name) == value.lower() and name not in tags):
            tags.pop(name, None)
        else:
            tags[name] = value
    ranked = sorted(tags, key=lambda name: _ORDER.index(name) if name in _ORDER else len(_ORDER))
    return "; ".join(f"{name}={tags[name]}" for name in ranked)
