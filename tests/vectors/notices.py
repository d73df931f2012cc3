"""Messages that come back: made up in the forms that standards give (RFC 3464 appendix, RFC 5965 §B) and that servers write."""

from textwrap import dedent


def _m(text: str) -> bytes:
    return dedent(text).lstrip("\n").replace("\n", "\r\n").encode()


DSN = _m(
    """
    Date: Thu, 19 Nov 2026 08:00:10 +0000
    From: Mail Delivery System <MAILER-DAEMON@mx1.tidepost.example>
    To: bounce@news.glasswort.example
    Subject: Undelivered Mail Returned to Sender
    Message-ID: <n1@mx1.tidepost.example>
    Auto-Submitted: auto-replied
    MIME-Version: 1.0
    Content-Type: multipart/report; report-type=delivery-status;
    \tboundary="b1/mx1"

    This is a MIME-encapsulated message.

    --b1/mx1
    Content-Description: Notification
    Content-Type: text/plain; charset=us-ascii

    The mail system <kim@tidepost.example>: host says no

    --b1/mx1
    Content-Description: Delivery report
    Content-Type: message/delivery-status

    Reporting-MTA: dns; mta1.skerry.example
    Arrival-Date: Thu, 19 Nov 2026 08:00:01 +0000

    Final-Recipient: rfc822; kim@tidepost.example
    Original-Recipient: rfc822;Kim@tidepost.example
    Action: failed
    Status: 5.1.1
    Remote-MTA: dns; mx1.tidepost.example
    Diagnostic-Code: smtp; 550 5.1.1 <kim@tidepost.example>: no such
        mailbox
    Last-Attempt-Date: Thu, 19 Nov 2026 08:00:04 +0000

    Final-Recipient: rfc822; jo@tidepost.example
    Action: delayed (still trying)
    Status: 4.2.2 (mailbox full)
    Diagnostic-Code: smtp; 452 4.2.2 mailbox full

    --b1/mx1
    Content-Description: Undelivered Message
    Content-Type: message/rfc822

    Return-Path: <bounce@news.glasswort.example>
    From: Glasswort Theatre <news@news.glasswort.example>
    To: kim@tidepost.example
    Subject: =?utf-8?q?Fr=C3=BChling?=
    Message-ID: <a1@news.glasswort.example>

    Dear Kim
    --b1/mx1--
    """
)

DSN_GLOBAL = _m(
    """
    From: MAILER-DAEMON@mx1.tidepost.example
    Content-Type: multipart/report; report-type=global-delivery-status; boundary=x
    Date: Thu, 19 Nov 2026 08:00:10 +0000

    --x
    Content-Type: text/plain; charset=utf-8

    no
    --x
    Content-Type: message/global-delivery-status

    Reporting-MTA: dns; mx1.tidepost.example

    Final-Recipient: utf-8; j\\x{F6}rg@tidepost.example
    Action: failed
    Status: 5.6.7

    --x
    Content-Type: message/global-headers

    Message-ID: <a2@d.example>
    From: news@d.example
    --x--
    """
)

DSN_BARE = _m(
    """
    From: postmaster@kestrelbox.example
    Content-Type: multipart/report; boundary=x

    --x
    Content-Type: message/delivery-status
    Content-Transfer-Encoding: base64

    RmluYWwtUmVjaXBpZW50OiByZmM4MjI7IGtpbUBrZXN0cmVsYm94LmV4YW1wbGUKQWN0aW9uOiBG
    YWlsZWQKU3RhdHVzOiA1LjIuMQo=
    --x
    Content-Type: text/rfc822-headers

    Message-Id: <a3@d.example>
    """
)

COMPLAINT = _m(
    """
    From: <feedback@kestrelbox.example>
    Date: Fri, 20 Nov 2026 09:00:00 +0000
    Subject: FW: Offers
    To: <abuse@news.glasswort.example>
    Message-ID: <f1@kestrelbox.example>
    MIME-Version: 1.0
    Content-Type: multipart/report; report-type=feedback-report; boundary="part1"

    --part1
    Content-Type: text/plain; charset="US-ASCII"

    This is an email abuse report for a message received from 198.51.100.21.
    --part1
    Content-Type: message/feedback-report

    Feedback-Type: abuse
    User-Agent: Kestrelbox-Feedback/1.0
    Version: 1
    Original-Mail-From: <bounce+kim=kestrelbox.example@news.glasswort.example>
    Original-Rcpt-To: <user-redacted@kestrelbox.example>
    Arrival-Date: Thu, 19 Nov 2026 09:00:00 +0000
    Source-IP: 198.51.100.21
    Reported-Domain: news.glasswort.example

    --part1
    Content-Type: message/rfc822
    Content-Disposition: inline

    From: <news@news.glasswort.example>
    To: <redacted@kestrelbox.example>
    Subject: Offers
    Message-ID: <a9@news.glasswort.example>

    Offers
    --part1--
    """
)
AUTH_FAILURE = COMPLAINT.replace(b"Feedback-Type: abuse", b"Feedback-Type: auth-failure")
NOT_SPAM = COMPLAINT.replace(b"Feedback-Type: abuse", b"Feedback-Type: not-spam")

PLAIN = _m(
    """
    From: MAILER-DAEMON@mail.northgate.example
    To: bounce@d.example
    Subject: failure notice
    Date: Thu, 19 Nov 2026 08:00:10 +0000

    Hi. This is the mail program at mail.northgate.example.
    I'm afraid I wasn't able to deliver your message to the following addresses.
    This is a permanent error; I've given up. Sorry it didn't work out.

    <kim@northgate.example>:
    192.0.2.9 does not like recipient.
    Remote host summary: 550 5.1.1 <kim@northgate.example> unknown user
    Giving up on 192.0.2.9.

    --- Below this line is a copy of the message.

    Return-Path: <bounce@d.example>
    Received: from mta1.skerry.example
    Message-ID: <p1@d.example>
    From: news@d.example
    To: kim@northgate.example

    Hello jo@orchard.example
    """
)
PLAIN_LIST = _m(
    """
    From: Mail Delivery Subsystem <mailer-daemon@fenlandnet.example>
    Subject: Delivery Status Notification (Failure)

    The following message to <kim@fenlandnet.example> was undeliverable.
    The reason for the problem:
    5.1.0 - Unknown address error 550-'mailbox unavailable'
    """
)
PLAIN_DELAY = _m(
    """
    From: Mail Delivery System <Mailer-Daemon@relay1.cobble.example>
    Subject: Warning: message delayed 24 hours
    X-Failed-Recipients: kim@orchard.example

    This message was created automatically by mail delivery software.
    A message that you sent has not yet been delivered to one or more of its
    recipients after more than 24 hours on the queue.

    The address to which the message has not yet been delivered is:

      kim@orchard.example
        Delay reason: SMTP error from remote mail server after RCPT TO:<kim@orchard.example>:
        451 4.7.1 try again later

    No action is required on your part. Delivery attempts will continue.
    """
)
HTML_ONLY = _m(
    """
    From: postmaster@tidepost.example
    Subject: Undeliverable: Offers
    Content-Type: text/html; charset=utf-8

    <html><body><p>Your message to <b>kim@tidepost.example</b> couldn't be delivered.</p>
    <p>550 5.1.10 recipient not found</p></body></html>
    """
)
VACATION = _m(
    """
    From: Kim <kim@orchard.example>
    To: news@d.example
    Subject: Out of office: Offers
    Auto-Submitted: auto-replied

    I am away until Monday. Write to jo@orchard.example.
    """
)
OLD_VACATION = VACATION.replace(b"Auto-Submitted: auto-replied\r\n", b"")
PERSON = _m(
    """
    From: Kim <kim@orchard.example>
    To: news@d.example
    Subject: Re: Offers

    Please send me the spring list to kim.other@orchard.example.
    """
)


def _l(text: str, encoding: str = "utf-8") -> bytes:
    return dedent(text).lstrip("\n").replace("\n", "\r\n").encode(encoding)


# (what, message, envelope recipient, kind, [(recipient, action)]): machines, people, and parts that are broken
SENT_BACK: list[tuple[str, bytes, str, str, list[tuple[str, str]]]] = [
    (
        "person quotes a bounce",
        _l("""
 From: Kim <kim@orchard.example>
 To: help@d.example
 Subject: Re: Undelivered Mail Returned to Sender
 In-Reply-To: <x@y.example>

 Hello, I got this, what does it mean?
 > <jo@tidepost.example>: host mx said: 550 5.1.1 no such user
 """),
        "",
        "other",
        [],
    ),
    (
        "person, subject only",
        _l("""
 From: Kim <kim@orchard.example>
 Subject: delivery failed again

 My parcel to jo@tidepost.example did not arrive.
 """),
        "",
        "other",
        [],
    ),
    (
        "pasted status",
        _l("""
 From: MAILER-DAEMON@mx.tidepost.example
 Subject: failure notice
 Content-Type: text/plain

 Your mail could not be delivered.

 Reporting-MTA: dns; mx.tidepost.example

 Final-Recipient: rfc822; kim@tidepost.example
 Action: failed
 Status: 5.1.1
 Diagnostic-Code: smtp; 550 5.1.1 unknown user
 """),
        "",
        "delivery",
        [("kim@tidepost.example", "failed")],
    ),
    (
        "wrong boundary",
        _l("""
 From: Mail Delivery System <mailer-daemon@mx.tidepost.example>
 Subject: Undelivered Mail
 MIME-Version: 1.0
 Content-Type: multipart/report; report-type=delivery-status; boundary="aaa"

 --bbb
 Content-Type: text/plain

 sorry
 --bbb
 Content-Type: message/delivery-status

 Reporting-MTA: dns; mx.tidepost.example

 Final-Recipient: rfc822; jo@tidepost.example
 Action: failed
 Status: 5.2.2

 --bbb--
 """),
        "",
        "delivery",
        [("jo@tidepost.example", "failed")],
    ),
    (
        "mistyped part",
        _l("""
 From: mailer-daemon@mx.tidepost.example
 Subject: Delivery Status Notification (Failure)
 MIME-Version: 1.0
 Content-Type: multipart/mixed; boundary=b

 --b
 Content-Type: text/plain

 Delivery to the following recipient failed permanently.
 --b
 Content-Type: application/octet-stream; name=details.txt
 Content-Transfer-Encoding: base64

 RmluYWwtUmVjaXBpZW50OiByZmM4MjI7IGppbUB0aWRlcG9zdC5leGFtcGxlDQpBY3Rpb246IGZh
 aWxlZA0KU3RhdHVzOiA1LjEuMQ0K
 --b--
 """),
        "",
        "delivery",
        [("jim@tidepost.example", "failed")],
    ),
    (
        "empty status, text names it",
        _l("""
 From: postmaster@fenlandnet.example
 Subject: Undeliverable: news
 Content-Type: multipart/report; report-type=delivery-status; boundary=b

 --b
 Content-Type: text/plain

 Delivery has failed to these recipients:

 ann@fenlandnet.example
 The recipient's mailbox is full.
 --b
 Content-Type: message/delivery-status

 --b--
 """),
        "",
        "delivery",
        [("ann@fenlandnet.example", "failed")],
    ),
    (
        "two status parts",
        _l("""
 From: mailer-daemon@mx.tidepost.example
 Subject: failure
 Content-Type: multipart/report; boundary=b

 --b
 Content-Type: message/delivery-status

 Reporting-MTA: dns; a.example

 Final-Recipient: rfc822; a@tidepost.example
 Action: failed
 Status: 5.1.1
 --b
 Content-Type: message/delivery-status

 Reporting-MTA: dns; a.example

 Final-Recipient: rfc822; b@tidepost.example
 Action: delayed
 Status: 4.2.2
 --b--
 """),
        "",
        "delivery",
        [("a@tidepost.example", "failed"), ("b@tidepost.example", "delayed")],
    ),
    (
        "verp without code",
        _l("""
 From: Mail Delivery Subsystem <mailer-daemon@orchard.example>
 Subject: Your message was not delivered
 Return-Path: <>

 We are sorry, the person you wrote to has left.
 """),
        "news+kim=orchard.example@r.d.example",
        "delivery",
        [("kim@orchard.example", "failed")],
    ),
    (
        "html with entities",
        _l("""
 From: Mail Delivery Subsystem <mailer-daemon@orchard.example>
 Subject: Undeliverable
 Content-Type: text/html; charset=utf-8

 <html><style>p{color:red}</style><body><p>The message to <b>&lt;kim&#64;orchard.example&gt;</b> bounced:</p><p>550&nbsp;5.1.1 unknown user</p></body></html>
 """),
        "",
        "delivery",
        [("kim@orchard.example", "failed")],
    ),
    (
        "latin1 undeclared",
        _l(
            """
 From: Mail Delivery System <MAILER-DAEMON@mail.fenlandnet.example>
 Subject: Unzustellbar: Gr\u00fc\u00dfe

 Die Nachricht an ann@fenlandnet.example konnte nicht zugestellt werden:
 550 5.1.1 Empf\u00e4nger unbekannt

 Urspr\u00fcngliche Nachricht:
 From: news@d.example
 To: ann@fenlandnet.example
 Message-ID: <z1@d.example>
 """,
            "latin-1",
        ),
        "",
        "delivery",
        [("ann@fenlandnet.example", "failed")],
    ),
    (
        "french header",
        _l("""
 From: Mail Delivery System <MAILER-DAEMON@mail.fenlandnet.example>
 Subject: =?utf-8?q?=C3=89chec_de_la_remise?=

 Impossible de remettre votre message \u00e0 luc@fenlandnet.example : 552 5.2.2 bo\u00eete pleine

 ----- Message d'origine -----
 From: news@d.example
 To: other@fenlandnet.example
 """),
        "",
        "delivery",
        [("luc@fenlandnet.example", "failed")],
    ),
    (
        "complaint with several recipients",
        _l("""
 From: fbl@tidepost.example
 Subject: abuse report
 Content-Type: multipart/report; report-type=feedback-report; boundary=b

 --b
 Content-Type: message/feedback-report

 Feedback-Type: abuse
 Original-Rcpt-To: kim@tidepost.example
 Original-Rcpt-To: jo@tidepost.example
 --b--
 """),
        "",
        "complaint",
        [("kim@tidepost.example", "reported"), ("jo@tidepost.example", "reported")],
    ),
    (
        "contact in running text",
        _l("""
 From: Mail Delivery System <MAILER-DAEMON@mail.fenlandnet.example>
 Subject: Undelivered mail

 For help write to helpline@fenlandnet.example and include this report.

 <ann@fenlandnet.example>: host mx said: 550 5.1.1 no such user
 """),
        "",
        "delivery",
        [("ann@fenlandnet.example", "failed")],
    ),
    (
        "only contact",
        _l("""
 From: Mail Delivery System <MAILER-DAEMON@mail.fenlandnet.example>
 Subject: Undelivered mail

 Your mail could not be delivered. Questions: helpline@fenlandnet.example
 """),
        "",
        "other",
        [],
    ),
    (
        "vacation polish",
        _l("""
 From: Jan <jan@fenlandnet.example>
 Subject: Automatyczna odpowied\u017a: oferta

 Jestem na urlopie.
 """),
        "",
        "auto_reply",
        [],
    ),
    (
        "vacation japanese",
        _l("""
 From: a@fenlandnet.example
 Subject: =?utf-8?b?6Ieq5YuV6L+U5L+h?=

 x
 """),
        "",
        "auto_reply",
        [],
    ),
    (
        "vacation header",
        _l("""
 From: a@fenlandnet.example
 Auto-Submitted: auto-replied (vacation)
 Subject: Re: news

 back on Monday, 550 people wait
 """),
        "",
        "auto_reply",
        [],
    ),
    (
        "ticket auto-generated",
        _l("""
 From: Support <support@shop.example>
 Auto-Submitted: auto-generated
 Subject: We received your request

 Ticket 5.1.1 opened for kim@orchard.example
 """),
        "",
        "other",
        [],
    ),
    (
        "read receipt",
        _l("""
 From: kim@orchard.example
 Subject: Read: news
 Content-Type: multipart/report; report-type=disposition-notification; boundary=b

 --b
 Content-Type: text/plain

 Your message was read.
 --b
 Content-Type: message/disposition-notification

 Final-Recipient: rfc822; kim@orchard.example
 Disposition: manual-action/MDN-sent-manually; displayed
 --b--
 """),
        "",
        "auto_reply",
        [],
    ),
    (
        "list of recipients without reasons",
        _l("""
 From: System Administrator <postmaster@northgate.example>
 Subject: Undeliverable: hello

 Your message did not reach some or all of the intended recipients.

 a@northgate.example
 b@northgate.example

 The e-mail account does not exist at the organization.
 """),
        "",
        "delivery",
        [("a@northgate.example", "failed"), ("b@northgate.example", "failed")],
    ),
    (
        "delay",
        _l("""
 From: Mail Delivery System <mailer-daemon@mx.example>
 Subject: Warning: message still undelivered after 4 hours

 The following address has not yet been reached: kim@orchard.example
 (451 4.4.1 connection timed out). Delivery attempts will continue.
 """),
        "",
        "delivery",
        [("kim@orchard.example", "delayed")],
    ),
    (
        "spam filter challenge from a person domain",
        _l("""
 From: "Kim" <kim@orchard.example>
 Subject: Please confirm your message

 Click here.
 """),
        "",
        "other",
        [],
    ),
    (
        "bounce display name person",
        _l("""
 From: Postmaster Pat <pat@orchard.example>
 Subject: lunch?

 Are you free? Write to jo@tidepost.example
 """),
        "",
        "other",
        [],
    ),
    (
        "null return path no recipients",
        _l("""
 Return-Path: <>
 From: no-reply@orchard.example
 Subject: Undelivered

 It failed.
 """),
        "",
        "other",
        [],
    ),
    (
        "qmail style",
        _l("""
 Return-Path: <>
 From: MAILER-DAEMON@mx.orchard.example
 Subject: failure notice

 Hi. This is the mail program at mx.orchard.example.
 I could not deliver your message to the following addresses.

 <kim@orchard.example>:
 This address no longer accepts mail.

 --- Below this line is a copy of the message.

 Return-Path: <bounce@d.example>
 To: kim@orchard.example
 """),
        "",
        "delivery",
        [("kim@orchard.example", "failed")],
    ),
]
