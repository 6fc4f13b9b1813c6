"""Mails: text and page, with attachments (RFC 5322, RFC 2045 to 2049), and handing them to a mail server (RFC 5321).

What comes from outside never becomes a header of its own: the library refuses line breaks, and control characters are
shown and not kept.
"""

from __future__ import annotations

import smtplib
import ssl
import unicodedata
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from datetime import datetime
from email.errors import MessageError
from email.headerregistry import Address
from email.message import EmailMessage
from email.policy import SMTP, SMTPUTF8
from email.utils import format_datetime
from enum import Enum
from hashlib import sha256
from html import escape
from ipaddress import ip_address

from neatledger.core.people.credentials import Credentials
from neatledger.core.plan.notices import MailServer
from neatledger.errors import FormatError, SourceError

__all__ = ["Attachment", "Handed", "Postman", "make_mail", "signed_in"]

_TIMEOUT = 30.0
_BREAKING = frozenset({"Cc", "Cs", "Zl", "Zp"})


@dataclass(frozen=True, slots=True)
class Attachment:
    """A file that comes along: its name, its media type (``text/csv``), and what is in it."""

    name: str
    kind: str
    data: bytes


class Handed(Enum):
    """What became of a mail (RFC 5321 section 4.2.1): taken; not wanted (5xx); not now (4xx, or out of reach)."""

    SENT = "sent"
    REFUSED = "refused"
    DEFERRED = "deferred"


def _plain(text: str) -> str:
    """Return a text on one line, with what is no letter or sign shown by its number."""
    # Line and paragraph separators end a line to some, as control characters do.
    return "".join(f"\\x{ord(one):02x}" if unicodedata.category(one) in _BREAKING else one for one in text)


def make_mail(
    sender: str, to: tuple[str, str], subject: str, text: str, moment: datetime, keys: Sequence[str],
    attachments: Sequence[Attachment] = (),
) -> EmailMessage:  # fmt: skip
    """Return a mail to somebody (name and address); the same `keys` make the same Message-ID.

    Raises `FormatError` for an address that is none.
    """
    mail = EmailMessage(policy=SMTP)
    name, address = to
    try:
        mail["To"] = Address(_plain(name), addr_spec=address)
        mail["From"] = Address(addr_spec=sender)
    except (ValueError, IndexError, AttributeError, MessageError) as error:
        raise FormatError(f"no e-mail address: {error}", f"{sender} to {_plain(address)[:100]}") from None
    mail["Subject"] = _plain(subject)
    mail["Date"] = format_datetime(moment)
    digest = sha256("\n".join([address, *keys]).encode("utf-8", "surrogateescape")).hexdigest()[:32]
    mail["Message-ID"] = f"<{digest}@{sender.rpartition('@')[2]}>"
    # So answering machines keep still (RFC 3834 section 5).
    mail["Auto-Submitted"] = "auto-generated"
    clean = "\n".join(map(_plain, text.split("\n")))
    mail.set_content(clean)
    mail.add_alternative(_page(subject, clean), subtype="html")
    for one in attachments:
        main, _, sub = one.kind.partition("/")
        mail.add_attachment(one.data, maintype=main, subtype=sub, filename=_plain(one.name))
    return mail


def _page(subject: str, text: str) -> str:
    body = "".join(_paragraph(part.strip("\n")) for part in text.split("\n\n") if part.strip())
    style = (
        "body{font:16px/1.5 sans-serif;max-width:52em;margin:2em auto;padding:0 1em}"
        "pre{font:13px/1.4 monospace;overflow-x:auto}"
    )
    return (
        f'<!doctype html><html lang="en"><head><meta charset="utf-8"><title>{escape(_plain(subject))}</title>'
        f"<style>{style}</style></head><body>{body}</body></html>\n"
    )


def _paragraph(text: str) -> str:
    """Return a paragraph; one with columns keeps them."""
    if "   " in text:
        return f"<pre>{escape(text)}</pre>"
    return f"<p>{escape(text)}</p>".replace("\n", "<br>")


class Postman:
    """An open connection to a mail server."""

    def __init__(self, connection: smtplib.SMTP, sender: str) -> None:
        self._smtp, self._sender = connection, sender

    def send(self, mail: EmailMessage, address: str) -> tuple[Handed, str]:
        """Hand one mail over, and return what became of it, with what the server said.

        Raises `SourceError` where it went away while it took the text: then nobody knows whether the mail arrived.
        """
        is_handed = False
        try:
            policy = SMTP if address.isascii() and self._sender.isascii() else SMTPUTF8
            data = mail.as_bytes(policy=policy)
            options = ["SMTPUTF8", "BODY=8BITMIME"] if policy is SMTPUTF8 else []
            for code, said in (self._smtp.mail(self._sender, options), self._smtp.rcpt(address)):
                if code >= 400:
                    with suppress(smtplib.SMTPException, OSError):
                        self._smtp.rset()
                    return _outcome(code, said)
            is_handed = True
            return _outcome(*self._smtp.data(data))
        except smtplib.SMTPDataError as error:
            # It was asked whether it takes the text, and does not.
            return _outcome(error.smtp_code, error.smtp_error)
        except (smtplib.SMTPException, OSError) as error:
            if not is_handed:
                return Handed.DEFERRED, _words(error)
            raise SourceError(f"the mail server went away while it took a mail: {_words(error)}", address) from None


def _outcome(code: int, said: bytes | str) -> tuple[Handed, str]:
    if code < 400:
        return Handed.SENT, ""
    words = said.decode("utf-8", "replace") if isinstance(said, bytes) else said
    return (Handed.REFUSED if code >= 500 else Handed.DEFERRED), f"{code} {' '.join(_plain(words).split())[:200]}"


def _words(error: Exception) -> str:
    if isinstance(error, smtplib.SMTPResponseException):
        said = error.smtp_error
        return f"{error.smtp_code} {said.decode('utf-8', 'replace') if isinstance(said, bytes) else said}"[:200]
    return (" ".join(str(error).split()) or type(error).__name__)[:200]


_SEE_TLS = "see server, port and tls of notices: mail in the plan"


def _connected(server: MailServer, timeout: float) -> smtplib.SMTP:
    if server.is_tls:
        return smtplib.SMTP_SSL(server.host, server.port, timeout=timeout, context=ssl.create_default_context())
    return smtplib.SMTP(server.host, server.port, timeout=timeout)


def _start_tls(connection: smtplib.SMTP, where: str) -> None:
    if connection.has_extn("starttls"):
        connection.starttls(context=ssl.create_default_context())
        connection.ehlo()
    elif not _is_here(connection):
        offer = "let the server offer STARTTLS (RFC 3207), or say tls: at once"
        hint = f"names and mails would pass in the clear: {offer}"
        raise SourceError("the mail server speaks no TLS", where, hint)


@contextmanager
def signed_in(
    server: MailServer, credentials: Callable[[str, str], Credentials], timeout: float = _TIMEOUT
) -> Iterator[Postman]:
    """Open a connection to a mail server, over TLS off this machine; raises `SourceError`."""
    where = f"{server.host}:{server.port}"
    try:
        connection = _connected(server, timeout)
    except ssl.SSLError as error:
        raise SourceError(f"TLS with the mail server failed: {_words(error)}", where, _SEE_TLS) from None
    except (smtplib.SMTPException, OSError) as error:
        raise SourceError(
            f"the mail server is out of reach: {_words(error)}", where, "see notices in the plan"
        ) from None
    try:
        try:
            connection.ehlo()
            if not server.is_tls:
                _start_tls(connection, where)
            if server.user:
                found = credentials(server.user, server.host)
                connection.login(found.user, found.password)
        except ssl.SSLError as error:
            raise SourceError(f"its certificate does not hold: {_words(error)}", where) from None
        except smtplib.SMTPAuthenticationError:
            hint = "see user in the plan, and NEATLEDGER_PASSWORD_MAIL"
            raise SourceError("the mail server does not know this name or password", where, hint) from None
        except (smtplib.SMTPException, OSError) as error:
            raise SourceError(f"the mail server refuses: {_words(error)}", where) from None
        yield Postman(connection, server.sender)
    finally:
        with suppress(smtplib.SMTPException, OSError):
            connection.quit()
        connection.close()


def _is_here(connection: smtplib.SMTP) -> bool:
    """Tell whether the server is on this machine: then nothing passes over a wire."""
    assert connection.sock is not None
    return ip_address(connection.sock.getpeername()[0].partition("%")[0]).is_loopback
