"""SPF (RFC 7208): the record as a value (`record`), its evaluation (`evaluate`: check_host), what it costs in DNS
look-ups (`lookups`), whom it lets send (`authorised`), and the record that was meant (`corrected`)."""

from rust_gauge.core.spf.authorised import Authorised, AuthorisedNetwork, Overlap, authorised, is_wide, network_kind
from rust_gauge.core.spf.corrected import Corrected, correct, repaired, repeated
from rust_gauge.core.spf.evaluate import SpfCheck, SpfOutcome, SpfResult, SpfStep, check_host, check_mail
from rust_gauge.core.spf.lookups import LOOKUP_LIMIT, VOID_LIMIT, LookupNode, LookupTree, walk_lookups
from rust_gauge.core.spf.macros import MacroString, parse_macro_string
from rust_gauge.core.spf.record import Directive, Modifier, Qualifier, SpfRecord, is_spf1, parse_spf

__all__ = [
    "LOOKUP_LIMIT",
    "VOID_LIMIT",
    "Authorised",
    "AuthorisedNetwork",
    "Corrected",
    "Directive",
    "LookupNode",
    "LookupTree",
    "MacroString",
    "Modifier",
    "Overlap",
    "Qualifier",
    "SpfCheck",
    "SpfOutcome",
    "SpfRecord",
    "SpfResult",
    "SpfStep",
    "authorised",
    "check_host",
    "check_mail",
    "correct",
    "is_spf1",
    "is_wide",
    "network_kind",
    "parse_macro_string",
    "parse_spf",
    "repaired",
    "repeated",
    "walk_lookups",
]
