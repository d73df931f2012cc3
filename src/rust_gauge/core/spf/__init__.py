"""SPF (RFC 7208): the record as a value (`record`), and what a record costs in DNS look-ups (`lookups`).

`check_host()` belongs beside them: it evaluates the same terms, asking for DNS in the same way as `lookups` does.
"""

from rust_gauge.core.spf.lookups import LOOKUP_LIMIT, VOID_LIMIT, LookupNode, LookupTree, walk_lookups
from rust_gauge.core.spf.macros import MacroString, parse_macro_string
from rust_gauge.core.spf.record import Directive, Modifier, Qualifier, SpfRecord, is_spf1, parse_spf

__all__ = [
    "LOOKUP_LIMIT",
    "VOID_LIMIT",
    "Directive",
    "LookupNode",
    "LookupTree",
    "MacroString",
    "Modifier",
    "Qualifier",
    "SpfRecord",
    "is_spf1",
    "parse_macro_string",
    "parse_spf",
    "walk_lookups",
]
