"""Streams and relays: what each relay needs (`relay`), and what a stream over its relays means (`paths`), once for the
plan, the audit and the overview of senders."""

from rust_gauge.core.sending.paths import SendingPath, expand_streams
from rust_gauge.core.sending.relay import DkimNeed, HostNeed, PlannedStream, Relay, SendingHost

__all__ = ["DkimNeed", "HostNeed", "PlannedStream", "Relay", "SendingHost", "SendingPath", "expand_streams"]
