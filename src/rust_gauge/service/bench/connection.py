"""Connection settings of a tray, ready to copy, for mail libraries that are common. The password comes from outside."""

from rust_gauge.contract.bench import ConnectionSnippet

_TRUST = "bench-certificate.pem"

_SMTPLIB = """\
import os
import smtplib
import ssl

context = ssl.create_default_context({ca_python})
with smtplib.SMTP("{host}", {port}) as smtp:
    smtp.starttls(context=context)
    smtp.login("{user}", os.environ["BENCH_PASSWORD"])
    smtp.send_message(message)
"""

_GO = """\
auth := smtp.PlainAuth("", "{user}", os.Getenv("BENCH_PASSWORD"), "{host}")
{ca_go}// SendMail uses STARTTLS where the server offers it, and signs in over TLS only.
err := smtp.SendMail("{host}:{port}", auth, sender, recipients, message)
"""

_PHPMAILER = """\
$mail->isSMTP();
$mail->Host = '{host}';
$mail->Port = {port};
$mail->SMTPSecure = PHPMailer::ENCRYPTION_STARTTLS;
$mail->SMTPAuth = true;
$mail->Username = '{user}';
$mail->Password = getenv('BENCH_PASSWORD');{ca_php}
"""

_JAKARTA = """\
Properties properties = new Properties();
properties.put("mail.smtp.host", "{host}");
properties.put("mail.smtp.port", "{port}");
properties.put("mail.smtp.auth", "true");
properties.put("mail.smtp.starttls.enable", "true");
properties.put("mail.smtp.starttls.required", "true");{ca_java}
Session session = Session.getInstance(properties, new Authenticator() {{
  @Override protected PasswordAuthentication getPasswordAuthentication() {{
    return new PasswordAuthentication("{user}", System.getenv("BENCH_PASSWORD"));
  }}
}});
"""

_RUBY = """\
Mail.defaults do
  delivery_method :smtp, address: '{host}', port: {port}, enable_starttls: true,
                         user_name: '{user}', password: ENV.fetch('BENCH_PASSWORD'),
                         authentication: :plain{ca_ruby}
end
"""

_PLAIN = """\
Server     {host}
Port       {port} with STARTTLS
User       {user}
Password   shown when the tray was added or its password rotated
Login      PLAIN or LOGIN
"""

_ENVIRONMENT = """\
SMTP_HOST={host}
SMTP_PORT={port}
SMTP_SECURITY=starttls
SMTP_USER={user}
SMTP_PASSWORD=$BENCH_PASSWORD
"""

_TEMPLATES = (
    ("smtplib", "Python smtplib", _SMTPLIB),
    ("go", "Go net/smtp", _GO),
    ("phpmailer", "PHPMailer (PHP)", _PHPMAILER),
    ("jakarta", "Jakarta Mail (Java)", _JAKARTA),
    ("ruby", "Mail (Ruby)", _RUBY),
    ("plain", "Plain settings", _PLAIN),
    ("environment", "Environment variables", _ENVIRONMENT),
)
_CERTIFICATE = {
    "ca_python": f'cafile="{_TRUST}"',
    "ca_go": f"// Set SSL_CERT_FILE={_TRUST}, so that the certificate is trusted.\n",
    "ca_php": f"\n$mail->SMTPOptions = ['ssl' => ['cafile' => '{_TRUST}']];",
    "ca_java": f"\n// Import {_TRUST} into the trust store of the JVM first (keytool -importcert).",
    "ca_ruby": f",\n                         ca_file: '{_TRUST}'",
}


def snippets(host: str, port: int, user: str, own_certificate: bool) -> list[ConnectionSnippet]:
    """Return settings for each library. With a certificate of the bench's own, they trust a file with it."""
    trust = _CERTIFICATE if own_certificate else dict.fromkeys(_CERTIFICATE, "")
    values = {"host": host, "port": port, "user": user, **trust}
    return [ConnectionSnippet(key=key, title=title, text=text.format(**values)) for key, title, text in _TEMPLATES]
