"""Handing mails to a server (RFC 6409): encrypted, with a login, and knowing of each whether the server has it."""

from __future__ import annotations

import smtplib
from collections.abc import Sequence
from types import TracebackType

from wexagraph.errors import CallError, SourceError
from wexagraph.sources.accounts import Account, Login, bearer, line_failed, refused
from wexagraph.text import one_line

_USUAL = 20_000_000
"""Bytes of a mail that most servers take, where one does not say how many it takes."""


class Refused(Exception):
    """The server has said that it does not take a mail."""


class Unknown(Exception):
    """The line ended before the server said whether it has taken a mail."""


class Submission:
    """A line to a server that takes mails, open and logged in. Raises SourceError, CallError."""

    def __init__(self, account: Account, login: Login) -> None:
        self._account = account
        try:
            self._line = self._open()
            self._log_in(login)
        except (OSError, smtplib.SMTPException) as error:
            if isinstance(error, smtplib.SMTPResponseException):
                raise SourceError(f"{account.host} refuses: {_words(error.smtp_error)}.") from error
            raise line_failed(account, error) from error

    def _open(self) -> smtplib.SMTP:
        account = self._account
        if account.encrypted_from_the_start:
            line: smtplib.SMTP = smtplib.SMTP_SSL(
                account.host, account.port, timeout=account.timeout, context=account.tls()
            )
            line.ehlo()
            return line
        line = smtplib.SMTP(account.host, account.port, timeout=account.timeout)
        line.ehlo()
        if line.has_extn("starttls"):
            line.starttls(context=account.tls())
            line.ehlo()
        elif not account.may_stay_plain:
            line.close()
            raise SourceError(
                f"{account.host} offers no encryption at port {account.port}, and mail is not sent in the open. Use "
                "smtps://, or ask who runs the server."
            )
        return line

    def _log_in(self, login: Login) -> None:
        account, line = self._account, self._line
        if not account.user:
            return
        if not line.has_extn("auth"):
            raise SourceError(f"{account.host} takes no login here. Leave the user out of its URL, or check the port.")
        secret, offered = login(account, False), str(line.esmtp_features.get("auth", "")).upper().split()
        line.user, line.password = account.user, secret.value
        try:
            if secret.token:
                mechanism, first = bearer(account, secret, offered)
                line.auth(mechanism, lambda challenge=None: first.decode() if challenge is None else "")
            elif "PLAIN" in offered:
                line.auth("PLAIN", line.auth_plain)
            elif "LOGIN" in offered:
                line.auth("LOGIN", line.auth_login)
            else:
                raise SourceError(f"{account.host} takes no login that this program knows: {' '.join(offered)}.")
        except smtplib.SMTPAuthenticationError as error:
            raise refused(account, _words(error.smtp_error)) from error

    @property
    def most(self) -> int:
        """How many bytes a mail may have (RFC 1870)."""
        said = str(self._line.esmtp_features.get("size", ""))
        return int(said) if said.isdigit() and int(said) else _USUAL

    @property
    def eight_bit(self) -> bool:
        """Whether lines of 8 bits arrive as they are (RFC 6152)."""
        return self._line.has_extn("8bitmime")

    def hand_over(self, mail: bytes, sender: str, recipients: Sequence[str]) -> None:
        """Give a mail to the server; to all of the recipients, or to none. Raises Refused where it does not take it,
        Unknown where nobody can say, SourceError where the line was gone before."""
        options = ["BODY=8BITMIME"] if not mail.isascii() else []
        if not all(one.isascii() for one in (sender, *recipients)):
            if not self._line.has_extn("smtputf8"):
                raise CallError(f"{self._account.host} takes no addresses with letters beyond ASCII (SMTPUTF8).")
            options.append("SMTPUTF8")
        line = self._line
        line.command_encoding = "utf-8" if "SMTPUTF8" in options else "ascii"
        try:
            if line.has_extn("size"):
                options.append(f"SIZE={len(mail)}")
            self._agreed(line.mail(sender, options), f"the sender {sender}")
            for one in recipients:
                self._agreed(line.rcpt(one), one)
            code, answer = line.docmd("DATA")
            if code != 354:
                raise Refused(_words(answer))
        except Refused:
            self._begin_anew()
            raise
        except (OSError, smtplib.SMTPException) as error:
            raise line_failed(self._account, error) from error
        try:
            line.send(_escaped(mail))
            code, answer = line.getreply()
        except (OSError, smtplib.SMTPException) as error:
            raise Unknown(str(error) or type(error).__name__) from error
        if code != 250:
            raise Refused(_words(answer))

    def _agreed(self, reply: tuple[int, bytes], what: str) -> None:
        code, answer = reply
        if code not in (250, 251):
            raise Refused(f"{what}: {_words(answer)}")

    def _begin_anew(self) -> None:
        try:
            self._line.rset()
        except (OSError, smtplib.SMTPException):
            self._line.close()

    def __enter__(self) -> Submission:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        try:
            self._line.quit()
        except (OSError, smtplib.SMTPException):
            self._line.close()


def _words(answer: bytes | str) -> str:
    text = answer.decode("utf-8", "replace") if isinstance(answer, bytes) else answer
    return one_line(text)[:200].rstrip(". ")


def _escaped(mail: bytes) -> bytes:
    """A mail as DATA wants it (RFC 5321, section 4.5.2): a point more where a line begins with one, and the end."""
    lines = mail.replace(b"\r\n.", b"\r\n..")
    return (b"." if lines.startswith(b".") else b"") + lines + (b"" if lines.endswith(b"\r\n") else b"\r\n") + b".\r\n"
