"""SMTP replies as values (`reply`), and what is behind a refusal (`causes`)."""

from rust_gauge.core.replies.causes import Cause, Classified, Permanence, classify
from rust_gauge.core.replies.reply import EnhancedStatus, SmtpReply, parse_reply

__all__ = ["Cause", "Classified", "EnhancedStatus", "Permanence", "SmtpReply", "classify", "parse_reply"]
