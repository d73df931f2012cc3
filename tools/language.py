"""Find phrases that are not plain English in messages, docstrings, comments and documents; part of `make lint`.

Each rule is a phrase that nobody would say, with what to say instead. A line that quotes one on purpose ends in the
comment `plain: quoted`.
"""

import re
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
FILES = ("*.py", "*.ts", "*.tsx", "*.md", "*.toml", "*.html", "*.j2")
EXCEPT = (
    "tools/language.py",
    "console/src/api/schema.d.ts",
    "console/package-lock.json",
    "src/rust_gauge/store/migrations/",
)
QUOTED = "plain: quoted"
_KINDS = "IP|JSON|XML|UTF|number|address|domain|base64|date|time|text|list|object|kind|name|host|URL|CSV|zone"
_KINDS += (
    "|selector|key|record|port|file|mailbox|pattern|expression|request|day|page|code|tag|header|message|report|subject"
)
RULES = {
    rf"\b(?:is|are|was|were) no (?:{_KINDS})s?\b": '"is not a ..."',
    r"\b(?:mend|mends|mended|mending)\b": "fix, resolve, repair",
    r"\b(?:minded|nobody minds|looked after|looks? after|looking after)\b": "acknowledged, assigned, maintain",
    r"\b(?:put off|puts off|putting off)\b": "deferred, delayed (mail); snoozed (items)",
    r"\b(?:is|are|was|were|been|being|to be) told\b(?! apart)": "is notified, is reported, is given",
    r"\btells? (?:people|somebody|nobody|who)\b": "notify",
    r"\b[Ww]ays? in\b(?! \(| s\.)": "feed, import, source",
    r"\banew\b": "again",
    r"\b(?:throw(?:s|n)? away)\b": "discard; disposable (addresses)",
    r"\b(?:stands? at|stood at|stands? lower|how (?:the )?mail stands?)\b": "is, has",
    r"\b(?:to reckon with|is wanted(?! for)|are wanted|a word more)\b": "is expected, is required",
    r"\b(?:gnaw\w*|corrosion|rusting)\b": "no metaphors in sentences",
    r"\b(?:nobody|somebody) (?:that |who )?(?:may|wants)\b": "say directly who",
    r"\b(?:as it goes|how it goes|so far as|in so far)\b": "status, if",
    r"(?:\bGives? |; gives )(?:how|the|what|back|out)\b": "return, contain, print",
    r"\bslip of the pen\b": "typo",
    r"\bof one's own\b": "own, your own",
}


def findings() -> list[str]:
    """Return what was found: file, line, phrase, and what to say instead."""
    found = []
    listed = subprocess.run(["git", "ls-files", *FILES], cwd=ROOT, capture_output=True, text=True, check=True).stdout
    rules = [(re.compile(pattern, re.IGNORECASE), better) for pattern, better in RULES.items()]
    for name in listed.split():
        if name.startswith(EXCEPT):
            continue
        for number, line in enumerate((ROOT / name).read_text("utf-8").splitlines(), 1):
            if QUOTED in line:
                continue
            for rule, better in rules:
                if hit := rule.search(line):
                    found.append(f"{name}:{number}: {hit.group(0)!r}: say {better}")
    return found


def main() -> int:
    found = findings()
    print("\n".join(found))
    return int(bool(found))


if __name__ == "__main__":
    sys.exit(main())
