"""The form of a BIMI record (`default._bimi.`): `v=BIMI1; l=https://.../logo.svg; a=https://.../proof.pem`.

Only its form is looked at: whether a receiver shows the logo is for the receiver.
"""

from dataclasses import dataclass
from urllib.parse import urlsplit

from rust_gauge.core.taglist import Problem, Tag, parse_tag_list


@dataclass(frozen=True, slots=True)
class BimiRecord:
    """`logo` and `proof` are addresses, empty where there is none; both empty declines to take part."""

    text: str
    logo: str
    proof: str
    problems: tuple[Problem, ...]

    @property
    def declines(self) -> bool:
        """Return whether the record says that the domain takes no part: both values empty."""
        return not self.logo and not self.proof and not self.problems


def read_bimi(text: str) -> BimiRecord:
    """Read a record that begins with v=BIMI1. Never raises."""
    tags = parse_tag_list(text)
    problems = list(tags.problems)
    if not tags.tags or tags.tags[0].name != "v" or tags.tags[0].value != "BIMI1":
        problems.append(Problem("it must start with v=BIMI1;", 1, 7))
    logo, proof = tags.get("l"), tags.get("a")
    if logo is None:
        problems.append(Problem("l= with the URL of the logo is missing", 1))
    for tag in (logo, proof):
        if tag and tag.value and not _https(tag):
            problems.append(Problem(f"{tag.name}= is not an https: URL", tag.value_column, len(tag.value)))
    if logo and logo.value and _https(logo) and not urlsplit(logo.value).path.lower().endswith((".svg", ".svgz")):
        problems.append(Problem("the logo must be an SVG file", logo.value_column, len(logo.value)))
    return BimiRecord(text, logo.value if logo else "", proof.value if proof else "", tuple(problems))


def _https(tag: Tag) -> bool:
    try:
        parts = urlsplit(tag.value)
        return parts.scheme.lower() == "https" and bool(parts.hostname)
    except ValueError:
        return False
