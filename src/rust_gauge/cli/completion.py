"""`rustgauge completion`: a script for the shell, made from the parsers themselves."""

import argparse

from rust_gauge.cli.nouns import Noun
from rust_gauge.cli.session import Session

DEFAULT = "script"
EXAMPLES = ("completion bash > ~/.local/share/bash-completion/completions/rustgauge",)
_COMMON = ["--url", "--tenant", "--help"]


def register(noun: Noun) -> None:
    """Add the verbs, one for each shell."""
    for shell in ("bash", "zsh", "fish"):
        made = noun.add(shell, completion, f"print the script for {shell}")
        made.set_defaults(shell=shell)
    noun.add("script", completion, "print the script for bash").set_defaults(shell="bash")  # noqa: S604


def words() -> dict[str, dict[str, list[str]]]:
    """Return the options by noun and verb."""
    from rust_gauge.cli.main import HELP, noun_of

    return {name: {verb: _options(parser) for verb, parser in noun_of(_MODULES.get(name, name))[0].verbs.items()}
            for name in HELP}  # fmt: skip


_MODULES = {"wall": "reading", "trail": "event"}  # short commands, and the nouns that they are verbs of


def _options(parser: argparse.ArgumentParser) -> list[str]:
    own = [option for action in parser._actions for option in action.option_strings if option.startswith("--")]
    return sorted({*own, *_COMMON})


def bash(nouns: dict[str, dict[str, list[str]]]) -> str:
    """Return a completion script for bash."""
    cases = []
    for noun, verbs in nouns.items():
        if noun in _MODULES:
            cases.append(f'    "{noun} "*) words="{" ".join(verbs[noun])}" ;;')
            continue
        cases += [f'    "{noun} {verb}") words="{" ".join(options)}" ;;' for verb, options in verbs.items()]
        cases.append(f'    "{noun} "*) words="{" ".join([*verbs, *_COMMON])}" ;;')
    body = "\n".join(cases)
    return f"""_rustgauge() {{
  local current="${{COMP_WORDS[COMP_CWORD]}}" words
  if [[ $COMP_CWORD -eq 1 ]]; then
    COMPREPLY=($(compgen -W "{" ".join(nouns)} --help --version" -- "$current"))
    return
  fi
  case "${{COMP_WORDS[1]}} $([[ $COMP_CWORD -gt 2 ]] && echo "${{COMP_WORDS[2]}}")" in
{body}
  esac
  if [[ $COMP_CWORD -gt 2 && $current != -* ]]; then
    COMPREPLY=($(compgen -f -- "$current"))
  else
    COMPREPLY=($(compgen -W "$words" -- "$current"))
  fi
}}
complete -F _rustgauge rustgauge"""


def fish(nouns: dict[str, dict[str, list[str]]]) -> str:
    """Return a completion script for fish."""
    from rust_gauge.cli.main import HELP

    lines = ["complete -c rustgauge -f"]
    for noun, verbs in nouns.items():
        lines.append(f"complete -c rustgauge -n __fish_use_subcommand -a {noun} -d '{HELP[noun]}'")
        seen = f"__fish_seen_subcommand_from {noun}"
        if noun not in _MODULES:
            known = " ".join(verbs)
            lines.append(f"complete -c rustgauge -n '{seen}; and not __fish_seen_subcommand_from {known}' -a '{known}'")
        for verb, options in verbs.items():
            if noun in _MODULES and verb != noun:
                continue
            where = seen if noun in _MODULES else f"{seen}; and __fish_seen_subcommand_from {verb}"
            lines += [f"complete -c rustgauge -n '{where}' -l {option[2:]}" for option in options]
    return "\n".join(lines)


def completion(session: Session) -> int:
    """Print the script."""
    shell, nouns = session.arguments.shell, words()
    if shell == "fish":
        session.output.line(fish(nouns))
    elif shell == "zsh":
        session.output.line("autoload -U +X bashcompinit && bashcompinit\n" + bash(nouns))
    else:
        session.output.line(bash(nouns))
    return 0
