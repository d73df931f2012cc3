"""DNS questions and answers as values, and programs that ask the ones and are given the others.

A program is a generator: it yields a tuple of questions and is sent a tuple of answers in the same order. Whoever
drives it decides where answers come from: a live resolver, a zone file, a recorded set, a table in a test.
"""

from rust_gauge.core.dns.answers import AnswerStatus, DnsAnswer, DnsQuestion, TxtRecord
from rust_gauge.core.dns.mailboxes import MailboxAnswer, MailboxQuestion
from rust_gauge.core.dns.pages import PageAnswer, PageQuestion
from rust_gauge.core.dns.programs import (
    Answer,
    Answers,
    DnsProgram,
    Question,
    Questions,
    Trace,
    ask,
    ask_page,
    drive,
    gather,
    overlay,
)
from rust_gauge.core.dns.servers import split_server

__all__ = [
    "Answer",
    "AnswerStatus",
    "Answers",
    "DnsAnswer",
    "DnsProgram",
    "DnsQuestion",
    "MailboxAnswer",
    "MailboxQuestion",
    "PageAnswer",
    "PageQuestion",
    "Question",
    "Questions",
    "Trace",
    "TxtRecord",
    "ask",
    "ask_page",
    "drive",
    "gather",
    "overlay",
    "split_server",
]
