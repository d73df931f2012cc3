"""SMTP replies as values (`reply`), why a message was refused (`causes`), and the rules that find it out (`rules`)."""

from rust_gauge.core.replies.causes import Cause, Classified, Permanence
from rust_gauge.core.replies.reply import EnhancedStatus, SmtpReply, cut_reply, parse_reply
from rust_gauge.core.replies.rules import (
    CauseRule,
    Classifier,
    RuleError,
    RuleSet,
    built_in_classifier,
    built_in_rules,
    classify,
    failures,
    own_rules,
    read_rules,
)

__all__ = [
    "Cause",
    "CauseRule",
    "Classified",
    "Classifier",
    "EnhancedStatus",
    "Permanence",
    "RuleError",
    "RuleSet",
    "SmtpReply",
    "built_in_classifier",
    "built_in_rules",
    "classify",
    "cut_reply",
    "failures",
    "own_rules",
    "parse_reply",
    "read_rules",
]
