"""The command line as a whole: nouns, verbs, help, suggestions, and what goes to which stream."""

import io
import json
import shlex
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from rust_gauge.cli.main import HELP, SECTIONS, main, noun_of, overview
from rust_gauge.cli.nouns import TABLE
from rust_gauge.cli.output import Output
from rust_gauge.contract.common import ProblemError

NOUNS = [noun for noun in HELP if noun not in ("wall", "trail")]
VERBS = [(noun, verb) for noun in NOUNS for verb in noun_of(noun)[0].verbs]


def run(*words: str) -> tuple[int, str, str]:
    out, err = io.StringIO(), io.StringIO()
    return main(list(words), Output(out, err)), out.getvalue(), err.getvalue()


def test_the_overview_is_short_and_names_every_noun() -> None:
    lines = overview().splitlines()
    assert len(lines) < 50  # a terminal's height
    assert [line.split()[0] for line in lines if line.startswith("  ") and "rustgauge" not in line] == [
        noun for _, nouns in SECTIONS for noun in nouns
    ]
    assert run()[:2] == run("--help")[:2] == (0, overview() + "\n")


@pytest.mark.parametrize("name", NOUNS)
def test_every_example_is_a_command_that_parses(name: str) -> None:
    noun, module = noun_of(name)
    assert len(module.EXAMPLES) >= 1
    assert module.DEFAULT in noun.verbs
    for example in module.EXAMPLES:
        words = [word for word in shlex.split(example.partition(" > ")[0]) if word != "--tenant"]
        first, *rest = words
        if first in ("wall", "trail"):
            first, rest = name, [first, *rest]
        assert first == name, example
        rest = [word for word in rest if word not in ("glasswort", "thornfield", "halyard", "copperline", "marram")]
        parsed = noun.parser.parse_args(rest if rest and rest[0] in noun.verbs else [module.DEFAULT, *rest])
        assert callable(parsed.run)


@pytest.mark.parametrize(("noun", "verb"), VERBS)
def test_every_verb_has_help(noun: str, verb: str, capsys: pytest.CaptureFixture[str]) -> None:
    assert main([noun, verb, "--help"]) == 0
    shown = capsys.readouterr().out
    assert f"usage: rustgauge {noun} {verb}" in shown
    assert "--tenant" in shown


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["suppresion"], "did you mean suppression?"),
        (["feed", "lst"], "did you mean list?"),
        (["nonsense"], "see rustgauge --help"),
        (["domain", "add"], "required: domain"),
        (["flow", "show", "--days", "0"], "'0' is not a whole number"),
        (["flow", "show", "--days", "3", "--since", "2026-11-01"], "not allowed with argument"),
        (["worklist", "list", "--state", "opn"], "did you mean open?"),
        (["suppression", "add", "a@b.example", "--reason", "nonsense"], "choose from"),
        (["reading", "show", "d.example", "--since", "2026-11-20", "--until", "2026-11-01"], "begins on 2026-11-20"),
        (["relay", "set", "x"], "describe the relay"),
    ],
)
def test_a_wrong_command_line_gives_one_clear_line(words: list[str], said: str) -> None:
    status, out, err = run(*words, "--tenant", "x", "--url", "http://127.0.0.1:9")
    assert (status, out, len(err.splitlines())) == (2, "", 1)
    assert err.startswith("rustgauge: ")
    assert said in err


@pytest.mark.parametrize(("noun", "verb"), VERBS)
def test_no_verb_takes_the_place_of_a_common_option(noun: str, verb: str) -> None:
    parser = noun_of(noun)[0].verbs[verb]
    assert {action.dest for action in parser._actions}.isdisjoint({"url", "tenant"})


def test_starting_imports_nothing_that_is_not_used() -> None:
    code = "import sys; from rust_gauge.cli.main import main; main([]); print([m for m in ('pydantic', 'httpx') if m in sys.modules])"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "[]"


@pytest.mark.parametrize("form", TABLE)
def test_every_format_goes_to_standard_output(form: str) -> None:
    out, err = io.StringIO(), io.StringIO()
    errors = [ProblemError(line=1, field="f", what="two\nlines"), ProblemError(what="=1+1")]
    Output(out, err).items(form, errors, ProblemError, ("line", "what"), lambda e: (e.line, e.what), empty="none")
    assert err.getvalue() == ""
    text = out.getvalue()
    if form == "json":
        assert json.loads(text) == [error.model_dump() for error in errors]
    elif form == "ndjson":
        assert [json.loads(line) for line in text.splitlines()] == [error.model_dump() for error in errors]
    elif form == "csv":
        assert text.startswith("line,field,what,remedy\n")
        assert "'=1+1" in text
    else:
        assert len(text.splitlines()) == 3, "a line break in a cell does not break the table"


class Terminal(io.StringIO):
    def isatty(self) -> bool:
        return True


@pytest.mark.parametrize("width", [40, 80, 200])
def test_a_table_fits_the_terminal(width: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("COLUMNS", str(width))
    monkeypatch.setenv("NO_COLOR", "1")
    out = Terminal()
    rows: list[tuple[Any, ...]] = [("a.example", 12, "x" * 150), ("b" * 70, 3, "short")]
    Output(out, io.StringIO()).table(("name", "n", "text"), rows, right=(1,))
    assert max(len(line) for line in out.getvalue().splitlines()) <= width


def test_the_installed_command_has_its_completion(tmp_path: Path) -> None:
    command = Path(sys.executable).with_name("rustgauge")
    for shell in ("bash", "zsh", "fish"):
        done = subprocess.run([command, "completion", shell], capture_output=True, text=True, check=True)
        for word in ("suppression", "check-list", "only-held"):
            assert word in done.stdout, (shell, word)
    script = subprocess.run([command, "completion", "bash"], capture_output=True, check=True).stdout
    subprocess.run(["bash", "-n"], input=script, check=True)


@pytest.mark.parametrize(("noun", "verb"), VERBS)
def test_since_and_until_stand_wherever_days_are_counted_back(noun: str, verb: str) -> None:
    names = {name for action in noun_of(noun)[0].verbs[verb]._actions for name in action.option_strings}
    ahead = {("reading", "forecast"), ("worklist", "snooze")}  # these days are to come
    if (noun, verb) not in ahead:
        assert ("--days" in names) <= ({"--since", "--until"} <= names)
