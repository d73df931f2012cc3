"""Mails that are hard on whatever reads them."""

import random

HEAD = b"From: mailer-daemon@mx.example\r\nContent-Type: "
STATUS = b"message/delivery-status\r\n\r\nReporting-MTA: dns; a\r\n\r\nFinal-Recipient: rfc822; kim@tidepost.example\r\nAction: failed\r\n"
BAD_MAILS = {
    "broken encoded word": b"From: =?utf-8?b?a?= <kim@d.example>\r\nSubject: =?utf-8?b?====?= =?x?q?=zz?=\r\n\r\nundelivered\r\n",
    "unknown charset": HEAD + b"text/plain; charset=no-such\r\nSubject: =?none-such?q?=41?=\r\n\r\n\xff\xfe 550 kim@d.example\r\n",
    "quadratic charset": HEAD + b"text/plain; charset=punycode\r\n\r\n" + b"a-" * 20_000,
    "year 1": HEAD + STATUS + b"Status: 5.1.1\r\nLast-Attempt-Date: Mon, 01 Jan 0001 00:00:00 +1400\r\n",
    "year 9999": HEAD + STATUS + b"Status: 5.1.1\r\nLast-Attempt-Date: Fri, 31 Dec 9999 23:59:59 -1200\r\n",
    "date in the header": b"Date: Mon, 01 Jan 0001 00:00:00 +2359\r\n" + HEAD + STATUS,
    "deep nesting": b"".join(b"Content-Type: multipart/mixed; boundary=b%d\r\n\r\n--b%d\r\n" % (n, n) for n in range(500)),
    "corrupt archive": HEAD + b"application/gzip\r\nContent-Transfer-Encoding: base64\r\n\r\nH4sIAAAAAAAA/w==\r\n",
    "NUL bytes": HEAD.replace(b":", b":\0") + b"text/plain\r\n\r\n\0\0 550 5.1.1 <a\0b@tidepost.example>\r\n",
    "empty": b"",
    "no header": b"\r\n\r\n",
    "random bytes": random.Random(7).randbytes(2000),
    "comment without end": b"From: " + b"(" * 5000 + b"\r\nTo: " + b'"' * 5000 + b"\r\n\r\n",
}  # fmt: skip
