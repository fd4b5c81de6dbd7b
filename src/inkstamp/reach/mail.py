"""Send an e-mail: SMTP (RFC 5321) by STARTTLS (RFC 3207), TLS from the first byte (RFC 8314) or in the clear."""

import os
import smtplib
import socket
import ssl
from collections.abc import Sequence
from email.message import EmailMessage
from email.utils import formatdate, make_msgid
from pathlib import Path

from msgspec import Struct

from inkstamp.deadline import within
from inkstamp.errors import NetworkTrouble
from inkstamp.printable import one_line, printable, shown_bytes
from inkstamp.transport import at_most, client_context, connect

_SECONDS, _WHOLE = 20.0, 60.0
"""For one answer, and for handing in a message altogether."""
_MOST_ANSWERS = 1_048_576
_PORTS = {"starttls": 587, "tls": 465, "none": 25}


class _Smtp(smtplib.SMTP):
    """A conversation with a mail server; STARTTLS needs a context that is `bounded`."""

    def _get_socket(self, host: str, port: int, timeout: float) -> socket.socket:
        return connect(host, port, timeout)


class _SmtpTls(smtplib.SMTP_SSL):
    """The same with TLS from the first byte."""

    def _get_socket(self, host: str, port: int, timeout: float) -> socket.socket:
        return self.context.wrap_socket(connect(host, port, timeout), server_hostname=host)


class MailServer(Struct, frozen=True, kw_only=True):
    """Where e-mail is handed in."""

    place: str
    """`host` or `host:port`."""
    tls: str
    """`starttls`, `tls` or `none`."""
    trust: Path | None
    user: str
    password: str


def compose(sender: str, to: Sequence[str], subject: str, text: str, moment: float) -> EmailMessage:
    """Make a message; marked as one that a program wrote (RFC 3834), so that nobody's program answers it."""
    message = EmailMessage()
    message["From"] = sender
    message["To"] = ", ".join(to)
    message["Subject"] = one_line(subject)
    message["Date"] = formatdate(moment)
    message["Message-ID"] = make_msgid(domain=sender.rpartition("@")[2])
    message["Auto-Submitted"] = "auto-generated"
    message.set_content(printable(text))
    return message


def send(server: MailServer, message: EmailMessage) -> None:
    """Hand a message in.

    Raises:
        NetworkTrouble: The server was not reached, does not do TLS as configured, or does not take the message.
        ConfigurationError: `trust` cannot be read.

    """
    host, _, port = server.place.rpartition(":") if not server.place.endswith("]") else (server.place, "", "")
    if not port.isdigit():
        host, port = server.place, str(_PORTS[server.tls])
    host = host.strip("[]")
    context = client_context(server.trust, "the mail server")
    try:
        with (
            within(_WHOLE),
            at_most(_MOST_ANSWERS),
            _connected(server, host, int(port), context) as connection,
        ):
            if server.user:
                connection.login(server.user, server.password)
            refused = connection.send_message(message)
    except smtplib.SMTPException as error:
        raise NetworkTrouble(
            "the mail server does not take the message", where=f"{host}:{port}", said=_said(error),
            advice="see what it says; `user`, `password_file`, `sender`, `to` under [messenger.NAME]",
        ) from error  # fmt: skip
    except (OSError, ValueError) as error:
        raise NetworkTrouble(
            "the mail server cannot be reached", where=f"{host}:{port}", said=one_line(str(error)),
            advice="check `server`, `tls` and `trust` under [messenger.NAME]",
        ) from error  # fmt: skip
    if refused:
        raise NetworkTrouble(f"the mail server does not take {', '.join(refused)}", where=f"{host}:{port}")


def _connected(server: MailServer, host: str, port: int, context: ssl.SSLContext) -> smtplib.SMTP:
    # By default the library asks DNS for this machine's name, and waits where there is no answer.
    ourselves = os.uname().nodename
    if server.tls == "tls":
        return _SmtpTls(host, port, ourselves, timeout=_SECONDS, context=context)
    connection = _Smtp(host, port, ourselves, timeout=_SECONDS)
    if server.tls == "starttls":
        try:
            connection.starttls(context=context)
        except BaseException:
            connection.close()
            raise
    return connection


def _said(error: smtplib.SMTPException) -> str:
    """Return the server's own words; never what was sent to it."""
    if isinstance(error, smtplib.SMTPResponseException):
        words = error.smtp_error
        return f"{error.smtp_code} {shown_bytes(words) if isinstance(words, bytes) else printable(words)}"
    if isinstance(error, smtplib.SMTPRecipientsRefused):
        return "; ".join(f"{who}: {code} {shown_bytes(why)}" for who, (code, why) in error.recipients.items())
    return printable(str(error)) or type(error).__name__
