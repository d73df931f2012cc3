"""Mail that tells what became of mail: delivery status, complaints, bounces of no standard, auto-replies."""

from rust_gauge.core.notices.notice import (
    MAX_NOTICE,
    Notice,
    NoticeError,
    NoticeKind,
    NoticeRecipient,
    read_notice,
)
from rust_gauge.core.notices.verp import verp_recipient

__all__ = ["MAX_NOTICE", "Notice", "NoticeError", "NoticeKind", "NoticeRecipient", "read_notice", "verp_recipient"]
