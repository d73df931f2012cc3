"""What the fields of a header say, each in a line."""

import tomllib
from collections.abc import Mapping
from functools import cache
from pathlib import Path


def meaning_of(name: str) -> str:
    """Return what a field says; empty for one that is not known."""
    return _meanings().get(name.lower(), "")


@cache
def _meanings() -> Mapping[str, str]:
    document = tomllib.loads(Path(__file__).with_name("fields.toml").read_text("utf-8"))
    return {str(name): str(text) for name, text in document["meaning"].items()}
