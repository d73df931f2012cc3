"""`rustgauge completion`: a script for the shell, made from the parser itself."""

import argparse

from rust_gauge.cli.commands import Commands
from rust_gauge.cli.session import Session


def register(commands: Commands) -> None:
    """Add these commands to the parser."""
    made = commands.add("completion", completion, "completion script for your shell")
    made.add_argument("shell", choices=("bash", "zsh"))


def words_of(parser: argparse.ArgumentParser) -> dict[str, list[str]]:
    """Options by command; the commands themselves under the empty name."""
    commands: dict[str, list[str]] = {"": _options(parser)}
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            commands[""] += sorted(action.choices)
            for name, sub in action.choices.items():
                commands[name] = _options(sub)
    return commands


def _options(parser: argparse.ArgumentParser) -> list[str]:
    return [option for action in parser._actions for option in action.option_strings if option.startswith("--")]


def script(parser: argparse.ArgumentParser, shell: str) -> str:
    """A completion script for bash or zsh."""
    commands = words_of(parser)
    cases = "\n".join(f'    {name}) words="{" ".join(words)}" ;;' for name, words in sorted(commands.items()) if name)
    body = f"""_rustgauge() {{
  local current="${{COMP_WORDS[COMP_CWORD]}}" words="{" ".join(commands[""])}"
  case "${{COMP_WORDS[1]}}" in
{cases}
  esac
  if [[ $COMP_CWORD -gt 1 && $current != -* ]]; then
    COMPREPLY=($(compgen -f -- "$current"))
  else
    COMPREPLY=($(compgen -W "$words" -- "$current"))
  fi
}}
complete -F _rustgauge rustgauge
"""
    return "autoload -U +X bashcompinit && bashcompinit\n" + body if shell == "zsh" else body


def completion(session: Session) -> int:
    session.output.line(script(session.arguments.parser, session.arguments.shell))
    return 0
