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
