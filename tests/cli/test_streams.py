"""What goes to which stream: every command that prints data prints nothing else on standard output, in every format."""

import argparse
import csv
import io
import json
import re
from collections.abc import Iterator
from datetime import datetime
from typing import Any

import pytest

from rust_gauge.cli.main import HELP, noun_of
from rust_gauge.contract.suppression import NewEntries
from tests.conftest import Office, make_owner
from tests.rows import bounce, ndjson

# Commands that wait, change something, or need a file or a number.
_OTHERS = {
    ("clearance", "check"), ("event", "import"), ("suppression", "export"), ("audit", "run"), ("event", "trail"),
    ("plan", "set"), ("plan", "publish"), ("watch", "start"),
}  # fmt: skip
_DOMAIN = "news.d.example"


def _needs(parser: argparse.ArgumentParser) -> set[str]:
    actions = [a for a in parser._actions if a.required or (not a.option_strings and a.nargs not in ("?", "*"))]
    return {a.dest for a in actions}


def _formats(parser: argparse.ArgumentParser) -> list[str]:
    choices = next((a.choices for a in parser._actions if "--format" in a.option_strings), None)
    return [str(each) for each in choices or () if each != "text"]


def _reading() -> Iterator[tuple[str, str, str]]:
    for noun in (each for each in HELP if each not in ("wall", "trail")):
        for verb, parser in noun_of(noun)[0].verbs.items():
            if (noun, verb) not in _OTHERS and _needs(parser) <= {"domain"} and verb not in ("detect", "settings"):
                for form in _formats(parser):
                    yield noun, verb, form


@pytest.fixture
def office_with_mail(office: Office) -> Office:
    with office.client() as client:
        client.events.load(office.slug, ndjson(*(bounce(n) for n in range(3))))
        for _ in range(2):
            client.audits.run(office.slug, _DOMAIN)
        client.suppression.add(office.slug, NewEntries(addresses=["a@tidepost.example"]))
    make_owner(office)
    office.world.work()
    return office


@pytest.mark.parametrize(("noun", "verb", "form"), list(_reading()))
def test_standard_output_is_data(noun: str, verb: str, form: str, office_with_mail: Office, run: Any) -> None:
    needs = _needs(noun_of(noun)[0].verbs[verb])
    status, out, err = run(noun, verb, *([_DOMAIN] if needs else []), "--format", form)
    assert status in (0, 3), err
    if form in ("json", "ndjson"):
        documents = [json.loads(out)] if form == "json" else [json.loads(line) for line in out.splitlines()]
        for time in re.findall(r'"(\d{4}-\d\d-\d\dT[^"]*)"', json.dumps(documents)):
            assert datetime.fromisoformat(time).tzinfo is not None, "a time has its offset"
    elif form == "csv":
        widths = {len(row) for row in csv.reader(io.StringIO(out))}
        assert len(widths) == 1, "every row of a CSV has all columns"
    assert not err.lstrip().startswith(("{", "["))
