"""How mail is carried: MTA-STS (RFC 8461), TLS reports (RFC 8460), DNS lists (RFC 5782), and the BIMI record's form."""

from rust_gauge.core.transport.bimi import BimiRecord, read_bimi
from rust_gauge.core.transport.dns_lists import DnsList, ListAnswer, ListState, ask_list
from rust_gauge.core.transport.mta_sts import StsPolicy, StsRecord, covers, read_sts_policy, read_sts_record
from rust_gauge.core.transport.tls_rpt import TlsRptRecord, read_tls_rpt

__all__ = [
    "BimiRecord",
    "DnsList",
    "ListAnswer",
    "ListState",
    "StsPolicy",
    "StsRecord",
    "TlsRptRecord",
    "ask_list",
    "covers",
    "read_bimi",
    "read_sts_policy",
    "read_sts_record",
    "read_tls_rpt",
]
