"""Write docs/cli.md from the parsers of the command line; `--check` compares."""

import argparse
import sys
from pathlib import Path

from rust_gauge.cli.main import HELP, SECTIONS, SHORT, noun_of

PAGE = Path(__file__).resolve().parent.parent / "docs" / "cli.md"
INTRODUCTION = """# Commands

This page is generated from the help texts of `rustgauge` (`tools/cli_reference.py`); `rustgauge NOUN VERB --help` shows
the same.

A command is a noun and a verb, such as `rustgauge domain add`. A noun has a default verb where one is meant most of the
time: `rustgauge wall` is `rustgauge reading wall`, and `rustgauge audit NAME` runs an audit.

- **Connection**: `--url` or `RUSTGAUGE_URL` names the service (default `http://127.0.0.1:8850`), `RUSTGAUGE_TOKEN`
  holds the API token, `--tenant` or `RUSTGAUGE_TENANT` chooses the tenant. These options may stand
  anywhere in a command.
- **Output**: data goes to standard output, everything else to standard error. `--format json` and `ndjson` print the
  documents of the API: numbers as numbers, times in ISO 8601 with their offset.
- **Exit status**: 0 done; 1 the service refused the request or does not answer; 2 the command is wrong; 3 done, and
  something needs attention (a fault was found, rows were rejected, an address is held); 4 an audit had no answers to
  judge; 130 stopped with Ctrl-C.
"""


def _argument(action: argparse.Action) -> str:
    names = ", ".join(f"`{name}`" for name in action.option_strings)
    values = action.metavar or ("|".join(map(str, action.choices)) if action.choices else action.dest.upper())
    if isinstance(values, tuple):
        values = " ".join(values)
    takes = action.nargs != 0
    shown = f"{names} `{values}`" if names and takes else names or f"`{values}`"
    text = (action.help or "").replace("%(default)s", str(action.default)).replace("%%", "%").replace("|", "\\|")
    required = " (required)" if action.option_strings and action.required else ""
    return f"| {shown.replace('|', chr(92) + '|')} | {text}{required} |\n"


def _verb(noun: str, verb: str, parser: argparse.ArgumentParser) -> str:
    actions = [a for a in parser._actions if a.dest != "help" and a.help is not argparse.SUPPRESS]
    words = [a for a in actions if not a.option_strings]
    usage = " ".join(
        [f"rustgauge {noun} {verb}", *(_usage(a) for a in words), *(["[OPTIONS]"] if words != actions else [])]
    )
    text = f"### {noun} {verb}\n\n{parser.description}\n\n    {usage}\n\n"
    if actions:
        text += "| argument | meaning |\n| --- | --- |\n" + "".join(_argument(a) for a in actions) + "\n"
    return text


def _usage(action: argparse.Action) -> str:
    name = str(action.metavar or ("|".join(map(str, action.choices)) if action.choices else action.dest.upper()))
    form = {"?": "[{}]", "*": "[{} ...]", "+": "{} [...]"}.get(str(action.nargs), "{}")
    return form.format(name)


def page() -> str:
    """Return the page: every noun by section, every verb with its arguments."""
    text = INTRODUCTION
    for section, nouns in SECTIONS:
        text += f"\n# {section}\n\n"
        for name in nouns:
            text += _noun(name)
    return text.rstrip() + "\n"


def _noun(name: str) -> str:
    if name in SHORT:
        noun, verb = SHORT[name]
        return f"## rustgauge {name}\n\nShort for `rustgauge {noun} {verb}`: {HELP[name]}.\n\n"
    noun_parser, module = noun_of(name)
    text = f"## rustgauge {name}\n\n{noun_parser.parser.description}"
    if module.DEFAULT:
        text += f" Without a verb: `{module.DEFAULT}`."
    text += "\n\n" + "".join(f"    rustgauge {example}\n" for example in module.EXAMPLES) + "\n"
    return text + "".join(_verb(name, verb, parser) for verb, parser in noun_parser.verbs.items())


def main() -> int:
    made = page()
    if "--check" in sys.argv:
        there = PAGE.read_text("utf-8") if PAGE.exists() else ""
        if made != there:
            print("docs/cli.md does not match the commands: run python tools/cli_reference.py")
        return int(made != there)
    PAGE.write_text(made, "utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
