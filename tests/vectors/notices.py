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


# Written after the rules, and read once before they were corrected: 30 of 32 were right.
UNSEEN: list[tuple[str, bytes, str, str, list[tuple[str, str]]]] = [
    (
        "plain list of several failures",
        _m("""
 From: Mail Delivery Subsystem <mailer-daemon@relay.example>
 To: return@news.d.example
 Subject: Message could not be delivered to some recipients

 The following addresses had permanent fatal errors:

   <kim@tidepost.example>
     (reason: 550 5.1.1 no such user)
   <lee@tidepost.example>
     (reason: 552 5.2.2 over quota)

 All other recipients received it.
 """),
        "",
        "delivery",
        [("kim@tidepost.example", "failed"), ("lee@tidepost.example", "failed")],
    ),
    (
        "relayed status is no failure",
        _m("""
 From: postmaster@relay.example
 MIME-Version: 1.0
 Content-Type: multipart/report; report-type=delivery-status; boundary=q
 Subject: Successful delivery

 --q
 Content-Type: text/plain

 Your message was handed on.
 --q
 Content-Type: message/delivery-status

 Reporting-MTA: dns; relay.example

 Final-Recipient: rfc822; kim@tidepost.example
 Action: relayed
 Status: 2.1.5
 --q--
 """),
        "",
        "delivery",
        [("kim@tidepost.example", "relayed")],
    ),
    (
        "delay warning in text",
        _m("""
 From: MAILER-DAEMON@mx3.d.example
 Subject: Warning: message still undelivered after 4 hours

 This is a warning message only; you need not send your mail again.

 The message could not be delivered yet to:

    kim@tidepost.example
      451 4.4.1 connection timed out

 Delivery will be tried for 3 more days.
 """),
        "",
        "delivery",
        [("kim@tidepost.example", "delayed")],
    ),
    (
        "german text bounce",
        _m("""
 From: Mail-Zustellsystem <mailer-daemon@post.example>
 Subject: Unzustellbar: Ihre Nachricht
 Content-Type: text/plain; charset=utf-8

 Ihre Nachricht konnte an folgende Empfänger nicht zugestellt werden:

 kim@tidepost.example: Der Empfänger ist unbekannt (550 5.1.1)
 """),
        "",
        "delivery",
        [("kim@tidepost.example", "failed")],
    ),
    (
        "french text bounce",
        _m("""
 From: Postmaster <postmaster@courrier.example>
 Subject: Non remis : votre message
 Content-Type: text/plain; charset=utf-8

 Votre message n'a pas pu être remis au destinataire suivant :

   <kim@tidepost.example>

 550 5.1.1 Utilisateur inconnu
 """),
        "",
        "delivery",
        [("kim@tidepost.example", "failed")],
    ),
    (
        "spanish html bounce",
        _m("""
 From: <postmaster@correo.example>
 Subject: No se pudo entregar: factura
 MIME-Version: 1.0
 Content-Type: text/html; charset=utf-8

 <html><body><h2>No se ha podido entregar el mensaje</h2><p>Destinatario: <a href="mailto:kim@tidepost.example">kim@tidepost.example</a></p><p>El servidor respondi&oacute;: 550 5.1.1 El usuario no existe</p></body></html>
 """),
        "",
        "delivery",
        [("kim@tidepost.example", "failed")],
    ),
    (
        "japanese bounce",
        _m("""
 From: Mail Delivery System <MAILER-DAEMON@mail.example>
 Subject: =?utf-8?b?6YWN5L+h44Gn44GN44G+44Gb44KT44Gn44GX44Gf?=
 Content-Type: text/plain; charset=utf-8

 次の宛先にメールを配信できませんでした。

 <kim@tidepost.example>: ホスト mx.tidepost.example の応答: 550 5.1.1 宛先不明です
 """),
        "",
        "delivery",
        [("kim@tidepost.example", "failed")],
    ),
    (
        "russian bounce in koi8",
        (
            b"From: MAILER-DAEMON@pochta.example\r\nSubject: undelivered\r\nContent-Type: text/plain; charset=koi8-r\r\n\r\n"
            + "Сообщение не доставлено получателю kim@tidepost.example: 550 пользователь не найден\r\n".encode("koi8-r")
        ),
        "",
        "delivery",
        [("kim@tidepost.example", "failed")],
    ),
    (
        "verp without a code",
        _m("""
 From: <>
 Subject: failure notice
 To: bounce+kim=tidepost.example@news.d.example

 I could not deliver your message. The mailbox is closed.
 """),
        "bounce+kim=tidepost.example@news.d.example",
        "delivery",
        [("kim@tidepost.example", "failed")],
    ),
    (
        "out of office with status words",
        _m("""
 From: Kim <kim@tidepost.example>
 Subject: Automatic reply: Your order
 Auto-Submitted: auto-replied

 I am out of the office; mail to lee@tidepost.example is undeliverable at present.
 """),
        "",
        "auto_reply",
        [],
    ),
    (
        "vacation in polish",
        _m("""
 From: Ola <ola@poczta.example>
 Subject: =?utf-8?q?Autoodpowied=C5=BA=3A_urlop?=
 X-Auto-Response-Suppress: All
 Content-Type: text/plain; charset=utf-8

 Jestem na urlopie do poniedziałku.
 """),
        "",
        "auto_reply",
        [],
    ),
    (
        "ticket system",
        _m("""
 From: Support <support@desk.example>
 Subject: [Ticket 1234] We have received your message
 Precedence: auto_reply
 Auto-Submitted: auto-generated

 Thank you, we will answer within two days.
 """),
        "",
        "auto_reply",
        [],
    ),
    (
        "challenge",
        _m("""
 From: Kim <kim@tidepost.example>
 Subject: Please confirm your message to me
 Auto-Submitted: auto-replied

 To reach me, click this link.
 """),
        "",
        "auto_reply",
        [],
    ),
    (
        "arf with several originals",
        _m("""
 From: <feedback@tidepost.example>
 Subject: complaint about message
 MIME-Version: 1.0
 Content-Type: multipart/report; report-type=feedback-report; boundary=z

 --z
 Content-Type: text/plain

 This is an email abuse report.
 --z
 Content-Type: message/feedback-report

 Feedback-Type: abuse
 User-Agent: Loop/1
 Version: 1
 Original-Rcpt-To: <kim@tidepost.example>
 Original-Rcpt-To: lee@tidepost.example
 Source-IP: 192.0.2.9
 --z
 Content-Type: message/rfc822

 From: news@news.d.example
 Message-ID: <a@news.d.example>

 hi
 --z--
 """),
        "",
        "complaint",
        [("kim@tidepost.example", "reported"), ("lee@tidepost.example", "reported")],
    ),
    (
        "arf without original recipient",
        _m("""
 From: <feedback@tidepost.example>
 Subject: Abuse report
 MIME-Version: 1.0
 Content-Type: multipart/report; report-type=feedback-report; boundary=z

 --z
 Content-Type: message/feedback-report

 Feedback-Type: abuse
 Version: 1
 --z
 Content-Type: message/rfc822

 From: news@news.d.example
 To: kim@tidepost.example
 Message-ID: <a@news.d.example>

 hi
 --z--
 """),
        "",
        "complaint",
        [("kim@tidepost.example", "reported")],
    ),
    (
        "not a bounce: newsletter about bounces",
        _m("""
 From: Deliverability News <news@letters.example>
 Subject: Undeliverable mail: ten tips
 List-Id: <tips.letters.example>
 Content-Type: text/plain

 When kim@tidepost.example answers 550 5.1.1 unknown user, remove the address.
 """),
        "",
        "other",
        [],
    ),
    (
        "person forwards a bounce",
        _m("""
 From: Ann <ann@office.example>
 To: help@d.example
 Subject: Fwd: Undelivered Mail Returned to Sender
 MIME-Version: 1.0
 Content-Type: multipart/mixed; boundary=w

 --w
 Content-Type: text/plain

 Can you see why?
 --w
 Content-Type: message/rfc822

 From: MAILER-DAEMON@mx.example
 Content-Type: multipart/report; report-type=delivery-status; boundary=v

 --v
 Content-Type: message/delivery-status

 Reporting-MTA: dns; mx.example

 Final-Recipient: rfc822; kim@tidepost.example
 Action: failed
 Status: 5.1.1
 --v--
 --w--
 """),
        "",
        "other",
        [],
    ),
    (
        "status with utf-8 address",
        _m("""
 From: mailer-daemon@mx.example
 Content-Type: multipart/report; report-type=delivery-status; boundary=v

 --v
 Content-Type: message/global-delivery-status; charset=utf-8

 Reporting-MTA: dns; mx.example

 Final-Recipient: utf-8; jörg@tidepost.example
 Action: failed
 Status: 5.1.1
 --v--
 """),
        "",
        "delivery",
        [("jörg@tidepost.example", "failed")],
    ),
    (
        "status as base64",
        _m("""
 From: mailer-daemon@mx.example
 Content-Type: multipart/report; report-type=delivery-status; boundary=v

 --v
 Content-Type: message/delivery-status
 Content-Transfer-Encoding: base64

 UmVwb3J0aW5nLU1UQTogZG5zOyBteC5leGFtcGxlDQoNCkZpbmFsLVJlY2lwaWVudDogcmZjODIy
 OyBraW1AdGlkZXBvc3QuZXhhbXBsZQ0KQWN0aW9uOiBmYWlsZWQNClN0YXR1czogNS4xLjENCg==
 --v--
 """),
        "",
        "delivery",
        [("kim@tidepost.example", "failed")],
    ),
    (
        "status without report, lower case",
        _m("""
 from: mailer-daemon@mx.example
 content-type: message/delivery-status
 subject: dsn

 reporting-mta: dns; mx.example

 final-recipient: rfc822;kim@tidepost.example
 action: failed
 status: 5.2.1
 """),
        "",
        "delivery",
        [("kim@tidepost.example", "failed")],
    ),
    (
        "two status parts",
        _m("""
 From: postmaster@mx.example
 Content-Type: multipart/report; report-type=delivery-status; boundary=v

 --v
 Content-Type: message/delivery-status

 Reporting-MTA: dns; a.example

 Final-Recipient: rfc822; kim@tidepost.example
 Action: failed
 Status: 5.1.1
 --v
 Content-Type: message/delivery-status

 Reporting-MTA: dns; b.example

 Final-Recipient: rfc822; lee@tidepost.example
 Action: failed
 Status: 5.2.2
 --v--
 """),
        "",
        "delivery",
        [("kim@tidepost.example", "failed"), ("lee@tidepost.example", "failed")],
    ),
    (
        "original recipient differs",
        _m("""
 From: postmaster@mx.example
 Content-Type: multipart/report; report-type=delivery-status; boundary=v

 --v
 Content-Type: message/delivery-status

 Reporting-MTA: dns; a.example

 Original-Recipient: rfc822; kim@tidepost.example
 Final-Recipient: rfc822; k.internal@store7.tidepost.example
 Action: failed
 Status: 5.1.1
 --v--
 """),
        "",
        "delivery",
        [("kim@tidepost.example", "failed")],
    ),
    (
        "x400 final with original",
        _m("""
 From: postmaster@mx.example
 Content-Type: multipart/report; report-type=delivery-status; boundary=v

 --v
 Content-Type: message/delivery-status

 Reporting-MTA: dns; a.example

 Final-Recipient: x400; /S=kim/O=tidepost/
 Original-Recipient: rfc822; kim@tidepost.example
 Action: failed
 Status: 5.1.1
 --v--
 """),
        "",
        "delivery",
        [("kim@tidepost.example", "failed")],
    ),
    (
        "headers pasted below an introduction",
        _m("""
 From: MAILER-DAEMON@mx.example
 Subject: Returned mail

 Hi. This is the mail program at mx.example. I was unable to deliver
 your message to the following address. This is a permanent error.

 <kim@tidepost.example>:
 198.51.100.7 does not like recipient.
 Remote host said: 550 unknown user

 --- Below this line is a copy of the message.

 From: news@news.d.example
 To: lee@tidepost.example
 Message-ID: <abc@news.d.example>
 """),
        "",
        "delivery",
        [("kim@tidepost.example", "failed")],
    ),
    (
        "quota warning to the sender",
        _m("""
 From: Mail Delivery <mailer-daemon@mx.example>
 Subject: Mail could not be stored

 The mailbox of <kim@tidepost.example> is full. Your message was not stored.
 """),
        "",
        "delivery",
        [("kim@tidepost.example", "failed")],
    ),
    (
        "read receipt",
        _m("""
 From: Kim <kim@tidepost.example>
 Subject: Read: Your order
 MIME-Version: 1.0
 Content-Type: multipart/report; report-type=disposition-notification; boundary=v

 --v
 Content-Type: text/plain

 Your message was read.
 --v
 Content-Type: message/disposition-notification

 Final-Recipient: rfc822;kim@tidepost.example
 Disposition: manual-action/MDN-sent-manually; displayed
 --v--
 """),
        "",
        "auto_reply",
        [],
    ),
    (
        "expired in text",
        _m("""
 From: Mail Delivery System <mailer-daemon@mx.example>
 Subject: Mail delivery failed: returning message to sender

 A message that you sent could not be delivered to one of its recipients.
 The following address failed:

   kim@tidepost.example
     retry timeout exceeded
 """),
        "",
        "delivery",
        [("kim@tidepost.example", "failed")],
    ),
    (
        "no address at all",
        _m("""
 From: mailer-daemon@mx.example
 Subject: Undeliverable

 Something went wrong with your message.
 """),
        "",
        "other",
        [],
    ),
    (
        "chinese bounce gb18030",
        (
            b"From: postmaster@youjian.example\r\nSubject: =?gb2312?b?zcvQxQ==?=\r\nContent-Type: text/plain; charset=gb18030\r\n\r\n"
            + "您的邮件无法投递到 kim@tidepost.example，原因：550 用户不存在\r\n".encode("gb18030")
        ),
        "",
        "delivery",
        [("kim@tidepost.example", "failed")],
    ),
    (
        "portuguese out of office",
        _m("""
 From: Rui <rui@correio.example>
 Subject: Ausência temporária: férias
 Content-Type: text/plain; charset=utf-8
 Precedence: bulk
 Auto-Submitted: auto-replied (vacation)

 Estou de férias.
 """),
        "",
        "auto_reply",
        [],
    ),
    (
        "action in other case and with text",
        _m("""
 From: mailer-daemon@mx.example
 Content-Type: multipart/report; report-type="delivery-status"; boundary="v"

 --v
 Content-Type: Message/Delivery-Status

 Reporting-MTA: DNS; mx.example

 Final-Recipient: RFC822; <Kim@Tidepost.Example>
 Action: FAILED
 Status: 5.1.1 (bad destination mailbox address)
 --v--
 """),
        "",
        "delivery",
        [("kim@tidepost.example", "failed")],
    ),
    (
        "person asks to be removed",
        _m("""
 From: Kim <kim@tidepost.example>
 Subject: please remove me

 I do not want mail at kim@tidepost.example any more. The old address lee@tidepost.example does not exist.
 """),
        "",
        "other",
        [],
    ),
]


def _failed(*addresses: str) -> list[tuple[str, str]]:
    return [(address, "failed") for address in addresses]


UNSEEN_LATER: list[tuple[str, bytes, str, str, list[tuple[str, str]]]] = [
    (
        "list of addresses with replies",
        _m("""
 From: MAILER-DAEMON@mx.orchard.example
 To: news@d.example
 Subject: failure notice

 Hi. This is the mail program at mx.orchard.example.
 I'm afraid I wasn't able to deliver your message to the following addresses.
 This is a permanent error; I've given up. Sorry it didn't work out.

 <kim@tidepost.example>:
 198.51.100.7 does not like recipient.
 Remote host said: 550 5.1.1 no such user
 Giving up on 198.51.100.7.

 <lee@tidepost.example>:
 Sorry, no mailbox here by that name. (#5.1.1)

 --- Below this line is a copy of the message.

 Return-Path: <news@d.example>
 From: news@d.example
 To: kim@tidepost.example, lee@tidepost.example
 Message-ID: <p9@d.example>

 Text about jo@orchard.example.
 """),
        "",
        "delivery",
        _failed("kim@tidepost.example", "lee@tidepost.example"),
    ),
    (
        "indented addresses",
        _m("""
 From: Mail Delivery System <Mailer-Daemon@mx.orchard.example>
 To: news@d.example
 Auto-Submitted: auto-replied
 Subject: Mail delivery failed: returning message to sender

 This message was created automatically by mail delivery software.

 A message that you sent could not be delivered to one or more of its
 recipients. This is a permanent error. The following address(es) failed:

   kim@tidepost.example
     SMTP error from remote mail server after RCPT TO:<kim@tidepost.example>:
     host mx.tidepost.example [198.51.100.7]: 550 unknown user
   "lee smith"@tidepost.example
     Unrouteable address
 """),
        "",
        "delivery",
        _failed("kim@tidepost.example", '"lee smith"@tidepost.example'),
    ),
    (
        "warning of a delay",
        _m("""
 From: Mail Delivery System <Mailer-Daemon@mx.orchard.example>
 To: news@d.example
 Auto-Submitted: auto-replied
 Subject: Warning: message 1abcDE-0001 delayed 24 hours

 This message was created automatically by mail delivery software.
 A message that you sent has not yet been delivered to one or more of its
 recipients after more than 24 hours on the queue on mx.orchard.example.

 The address to which the message has not yet been delivered is:

   kim@tidepost.example
     Delay reason: host mx.tidepost.example [198.51.100.7] connection timed out

 No action is required on your part. Delivery attempts will continue for
 some time.
 """),
        "",
        "delivery",
        [("kim@tidepost.example", "delayed")],
    ),
    (
        "dsn two recipients, one relayed",
        _m("""
 From: mailer-daemon@mx.example
 Subject: Report
 MIME-Version: 1.0
 Content-Type: multipart/report; report-type=delivery-status; boundary=q

 --q
 Content-Type: text/plain

 See below.
 --q
 Content-Type: message/delivery-status

 Reporting-MTA: dns; mx.example
 Arrival-Date: Thu, 19 Nov 2026 10:00:00 +0000

 Original-Recipient: rfc822;kim@tidepost.example
 Final-Recipient: rfc822;kim.o@tidepost.example
 Action: relayed
 Status: 2.0.0

 Final-Recipient: rfc822;lee@tidepost.example
 Action: failed
 Status: 5.2.2
 Diagnostic-Code: smtp; 552 5.2.2 mailbox full
 --q--
 """),
        "",
        "delivery",
        [("kim@tidepost.example", "relayed"), ("lee@tidepost.example", "failed")],
    ),
    (
        "base64 status part",
        _m("""
 From: postmaster@mx.example
 Subject: Undeliverable
 MIME-Version: 1.0
 Content-Type: multipart/report; report-type="delivery-status"; boundary="=_1"

 --=_1
 Content-Type: text/plain; charset=utf-8
 Content-Transfer-Encoding: base64

 U29ycnkuCg==
 --=_1
 Content-Type: message/delivery-status
 Content-Transfer-Encoding: base64

 UmVwb3J0aW5nLU1UQTogZG5zOyBteC5leGFtcGxlDQoNCkZpbmFsLVJlY2lwaWVudDogcmZjODIyOyBraW1AdGlkZXBvc3QuZXhhbXBsZQ0KQWN0aW9uOiBmYWlsZWQNClN0YXR1czogNS4xLjENCg==
 --=_1--
 """),
        "",
        "delivery",
        _failed("kim@tidepost.example"),
    ),
    (
        "quoted printable german",
        _m("""
 From: Mail Delivery Subsystem <mailer-daemon@post.example>
 Subject: =?utf-8?q?Nachricht_nicht_zustellbar?=
 Content-Type: text/plain; charset=iso-8859-1
 Content-Transfer-Encoding: quoted-printable

 Ihre Nachricht an kim@tidepost.example konnte nicht zugestellt werden.
 Grund: 550 Empf=E4nger unbekannt
 """),
        "",
        "delivery",
        _failed("kim@tidepost.example"),
    ),
    (
        "vacation with quoted original",
        _m("""
 From: Kim <kim@tidepost.example>
 To: news@d.example
 Subject: Automatic reply: Spring season
 Auto-Submitted: auto-replied
 X-Auto-Response-Suppress: All

 I am away until Monday. Contact lee@tidepost.example.
 > From: news@d.example
 > Subject: Spring season
 """),
        "",
        "auto_reply",
        [],
    ),
    (
        "ticket system",
        _m("""
 From: Support <support@orchard.example>
 Subject: [#4711] We received your message
 Auto-Submitted: auto-generated
 Precedence: auto_reply

 Thank you for writing to support@orchard.example. Your ticket number is 4711.
 """),
        "",
        "auto_reply",
        [],
    ),
    (
        "challenge",
        _m("""
 From: Kim's guard <guard@orchard.example>
 Subject: Please confirm your message
 Auto-Submitted: auto-replied

 Your message to kim@orchard.example waits until you confirm that you are a person.
 """),
        "",
        "auto_reply",
        [],
    ),
    (
        "address change",
        _m("""
 From: Kim <kim@tidepost.example>
 Subject: My address has changed
 Auto-Submitted: auto-replied
 Return-Path: <>

 I can now be reached at kim@orchard.example. This mailbox is no longer read.
 """),
        "",
        "auto_reply",
        [],
    ),
    (
        "arf with several original rcpt",
        _m("""
 From: feedback@kbox.example
 Subject: abuse report
 MIME-Version: 1.0
 Content-Type: multipart/report; report-type=feedback-report; boundary="z"

 --z
 Content-Type: text/plain

 Abuse report.
 --z
 Content-Type: message/feedback-report

 Feedback-Type: abuse
 User-Agent: Gate/1.0
 Version: 1
 Original-Rcpt-To: <kim@kbox.example>
 Original-Rcpt-To: lee@kbox.example
 Source-IP: 192.0.2.10
 --z
 Content-Type: message/rfc822

 From: news@d.example
 To: list@kbox.example
 Message-ID: <p1@d.example>

 Text
 --z--
 """),
        "",
        "complaint",
        [("kim@kbox.example", "reported"), ("lee@kbox.example", "reported")],
    ),
    (
        "verp only, status 5",
        _m("""
 From: MAILER-DAEMON@mx.example
 Subject: Returned mail

 Sorry, 5.1.1 user unknown.
 """),
        "bounce+kim=tidepost.example@d.example",
        "delivery",
        _failed("kim@tidepost.example"),
    ),
    (
        "json body",
        _m("""
 From: postmaster@mx.example
 Return-Path: <>
 Subject: Delivery Status
 Content-Type: text/plain

 {"recipient": "kim@tidepost.example", "result": "failed", "reply": "550 5.1.1 no such user"}
 """),
        "",
        "delivery",
        _failed("kim@tidepost.example"),
    ),
    (
        "html table",
        _m("""
 From: postmaster@mx.example
 Return-Path: <>
 Subject: Undeliverable: Spring
 Content-Type: text/html; charset=utf-8

 <html><body><p>Your message wasn&#39;t delivered.</p><table><tr><td>Recipient</td><td>kim&#64;tidepost.example</td></tr>
 <tr><td>Reason</td><td>550&nbsp;5.1.1 mailbox not found</td></tr></table></body></html>
 """),
        "",
        "delivery",
        _failed("kim@tidepost.example"),
    ),
    (
        "list digest quotes bounce",
        _m("""
 From: Ops list <ops-request@orchard.example>
 To: ops@orchard.example
 Subject: Ops Digest, Vol 4, Issue 2
 List-Id: <ops.orchard.example>
 Precedence: list

 Today's topics:
   1. Mail to kim@tidepost.example bounced with 550 5.1.1 (Lee)
 """),
        "",
        "other",
        [],
    ),
    (
        "person complains",
        _m("""
 From: Kim <kim@tidepost.example>
 Subject: stop this spam

 I get your mail at kim@tidepost.example every day. I never asked for it. 550 times already!
 """),
        "",
        "other",
        [],
    ),
    (
        "mdn read",
        _m("""
 From: Kim <kim@tidepost.example>
 Subject: Read: Spring
 MIME-Version: 1.0
 Content-Type: multipart/report; report-type=disposition-notification; boundary=m

 --m
 Content-Type: text/plain

 Your message was read.
 --m
 Content-Type: message/disposition-notification

 Final-Recipient: rfc822; kim@tidepost.example
 Disposition: manual-action/MDN-sent-manually; displayed
 --m--
 """),
        "",
        "auto_reply",
        [],
    ),
    (
        "delivered dsn",
        _m("""
 From: mailer-daemon@mx.example
 Subject: Successful Mail Delivery Report
 MIME-Version: 1.0
 Content-Type: multipart/report; report-type=delivery-status; boundary=q

 --q
 Content-Type: message/delivery-status

 Reporting-MTA: dns; mx.example

 Final-Recipient: rfc822; kim@tidepost.example
 Action: delivered
 Status: 2.1.5
 --q--
 """),
        "",
        "delivery",
        [("kim@tidepost.example", "delivered")],
    ),
    (
        "spaces in header names",
        _m("""
 From: mailer-daemon@mx.example
 Subject: Undelivered
 MIME-Version: 1.0
 Content-Type: multipart/report; report-type=delivery-status; boundary=q

 --q
 Content-Type: message/delivery-status

 reporting-mta : dns; mx.example

 final-recipient : rfc822; kim@tidepost.example
 action : failed
 status : 5.1.1
 --q--
 """),
        "",
        "delivery",
        _failed("kim@tidepost.example"),
    ),
    (
        "french plain",
        _m("""
 From: Service de messagerie <postmaster@courrier.example>
 Return-Path: <>
 Subject: =?utf-8?q?Non_remis_=3A_Saison?=
 Content-Type: text/plain; charset=utf-8

 Votre message n'a pas pu être remis au destinataire suivant :

 kim@tidepost.example
 550 5.1.1 utilisateur inconnu
 """),
        "",
        "delivery",
        _failed("kim@tidepost.example"),
    ),
    (
        "japanese iso-2022-jp",
        (
            b"From: MAILER-DAEMON@mx.example\r\nReturn-Path: <>\r\nSubject: Undelivered\r\nContent-Type: text/plain; charset=iso-2022-jp\r\n\r\n"
            + "次の宛先に配信できませんでした: kim@tidepost.example\r\n理由: 550 ユーザーが存在しません\r\n".encode(
                "iso-2022-jp"
            )
        ),
        "",
        "delivery",
        _failed("kim@tidepost.example"),
    ),
    (
        "smtputf8 global dsn",
        _m("""
 From: mailer-daemon@mx.example
 Subject: Undelivered
 MIME-Version: 1.0
 Content-Type: multipart/report; report-type=delivery-status; boundary=q

 --q
 Content-Type: message/global-delivery-status
 Content-Transfer-Encoding: 8bit

 Reporting-MTA: dns; mx.example

 Final-Recipient: utf-8; jürgen@bücher.example
 Action: failed
 Status: 5.1.1
 --q--
 """),
        "",
        "delivery",
        _failed("jürgen@xn--bcher-kva.example"),
    ),
    (
        "address in headers only",
        _m("""
 From: MAILER-DAEMON@mx.example
 X-Failed-Recipients: kim@tidepost.example, lee@tidepost.example
 Auto-Submitted: auto-replied
 Subject: Delivery failed

 Your message could not be delivered.
 """),
        "",
        "delivery",
        _failed("kim@tidepost.example", "lee@tidepost.example"),
    ),
    (
        "forwarded by person as attachment",
        (
            b"From: Kim <kim@orchard.example>\r\nTo: help@d.example\r\nSubject: Fwd: failure\r\nMIME-Version: 1.0\r\nContent-Type: multipart/mixed; boundary=f\r\n\r\n--f\r\nContent-Type: text/plain\r\n\r\nPlease look.\r\n--f\r\nContent-Type: message/rfc822\r\n\r\nFrom: mailer-daemon@mx.example\r\nSubject: failure\r\nContent-Type: text/plain\r\n\r\n<jo@tidepost.example>: 550 5.1.1 no such user\r\n--f--\r\n"
        ),
        "",
        "other",
        [],
    ),
    (
        "transient retry text",
        _m("""
 From: postoffice@mx.example
 Return-Path: <>
 Subject: Delivery Status Notification (Delay)

 This is an automatically generated Delivery Status Notification.

 THIS IS A WARNING MESSAGE ONLY. YOU DO NOT NEED TO RESEND YOUR MESSAGE.

 Delivery to the following recipients has been delayed.

    kim@tidepost.example
 """),
        "",
        "delivery",
        [("kim@tidepost.example", "delayed")],
    ),
    (
        "comment after recipient",
        _m("""
 From: mailer-daemon@mx.example
 Subject: Undelivered
 MIME-Version: 1.0
 Content-Type: multipart/report; report-type=delivery-status; boundary=q

 --q
 Content-Type: message/delivery-status

 Reporting-MTA: dns; mx.example

 Final-Recipient: rfc822; <kim@tidepost.example> (expanded from list@d.example)
 Action: failed
 Status: 5.1.1
 --q--
 """),
        "",
        "delivery",
        _failed("kim@tidepost.example"),
    ),
    (
        "spanish auto reply",
        _m("""
 From: Kim <kim@tidepost.example>
 Subject: Respuesta automática: Temporada
 Content-Type: text/plain; charset=utf-8

 Estaré fuera de la oficina hasta el lunes.
 """),
        "",
        "auto_reply",
        [],
    ),
    (
        "polish bounce",
        _m("""
 From: postmaster@poczta.example
 Return-Path: <>
 Subject: =?utf-8?q?Zwrot_wiadomo=C5=9Bci?=
 Content-Type: text/plain; charset=utf-8

 Nie można dostarczyć wiadomości do: kim@tidepost.example
 Powód: 550 Użytkownik nieznany
 """),
        "",
        "delivery",
        _failed("kim@tidepost.example"),
    ),
    (
        "addresses beyond ASCII in text",
        _m("""
 From: postmaster@post.example
 Return-Path: <>
 Subject: Undelivered Mail
 Content-Type: text/plain; charset=utf-8

 The following address failed:

   <jürgen@bücher.example>: 550 unknown user
 """),
        "",
        "delivery",
        _failed("jürgen@xn--bcher-kva.example"),
    ),
]
