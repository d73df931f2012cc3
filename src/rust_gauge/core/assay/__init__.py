"""The assay of one message: what is wrong with it, what that costs at receivers, and a mark that adds up."""

from rust_gauge.core.assay.examine import Examined, Sending, examine
from rust_gauge.core.assay.findings import Assay, AssayFinding, Place, Sighting, Where, weigh
from rust_gauge.core.assay.html import Html, parse_html
from rust_gauge.core.assay.links import Link, links_of
from rust_gauge.core.assay.message import MAX_MESSAGE, Message, Part
from rust_gauge.core.assay.rules import AssayRule, RuleSet, built_in
from rust_gauge.core.assay.sender import SenderHistory

__all__ = [
    "MAX_MESSAGE",
    "Assay",
    "AssayFinding",
    "AssayRule",
    "Examined",
    "Html",
    "Link",
    "Message",
    "Part",
    "Place",
    "RuleSet",
    "SenderHistory",
    "Sending",
    "Sighting",
    "Where",
    "built_in",
    "examine",
    "links_of",
    "parse_html",
    "weigh",
]
