"""Accounts on a server: their URLs (RFC 5092, RFC 2384), and what a line to one needs."""

from __future__ import annotations

import ssl
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from ipaddress import ip_address
from urllib.parse import quote, unquote, urlsplit

from wexagraph.errors import CallError, SourceError

_PORTS = {
    "imaps": 993,
    "imap": 143,
    "pops": 995,
    "pop": 110,
    "smtps": 465,
    "smtp": 587,
    "davs": 443,
    "dav": 80,
    "sftp": 22,
    "s3": 443,
}
SCHEMES, SENDING, PLACES = ("imaps", "imap", "pops", "pop"), ("smtps", "smtp"), ("davs", "dav", "sftp", "s3")
"""Of accounts that hold mail, of servers that take mail to be sent, and of those that what was made is delivered to."""
GOODBYE = 5.0
"""Seconds that a server may take to answer a goodbye; nothing depends on it any more."""


def steers_no_line(text: str) -> bool:
    """Whether a text can be sent to a server without ending the line that it stands on."""
    return not any(letter < " " or letter == "\x7f" for letter in text)


@dataclass(frozen=True)
class Secret:
    """What proves who we are: a password, or with `token` an OAuth 2 access token (RFC 7628). Never shown."""

    value: str
    token: bool = False

    def __post_init__(self) -> None:
        if not steers_no_line(self.value):
            raise CallError("the password holds a line end or another control character, which no server takes.")

    def __repr__(self) -> str:
        return "Secret(…)"


@dataclass(frozen=True)
class Account:
    """An account: where, as whom, and which folder (`folder`, "" for all).

    `authority` is a file with certificates of an authority to trust besides the system's. `retries` is how often a line
    is tried anew without any message coming through; `timeout` is in seconds, as is `search_timeout`, of what a server
    searches.
    """

    scheme: str
    host: str
    port: int
    user: str
    folder: str = ""
    authority: str = ""
    retries: int = 8
    timeout: float = 60.0
    search_timeout: float = 300.0

    @property
    def url(self) -> str:
        """The account's URL, without any secret."""
        host = f"[{self.host}]" if ":" in self.host else self.host
        port = "" if self.port == _PORTS[self.scheme] else f":{self.port}"
        return f"{self.scheme}://{quote(self.user, safe='')}@{host}{port}/{quote(self.folder)}"

    @property
    def name(self) -> str:
        """Who and where, for people and for the keyring."""
        return f"{self.user}@{self.host}" if "@" not in self.user else f"{self.user} at {self.host}"

    @property
    def encrypted_from_the_start(self) -> bool:
        return self.scheme in ("imaps", "pops", "smtps", "davs", "sftp", "s3")

    @property
    def may_stay_plain(self) -> bool:
        """Whether the line ends on this machine, so that nobody can listen in."""
        if self.host.lower() == "localhost":
            return True
        try:
            return ip_address(self.host).is_loopback
        except ValueError:
            return False

    def tls(self) -> ssl.SSLContext:
        """A context that verifies certificates and names, always. Raises CallError for an unusable authority."""
        context = ssl.create_default_context()
        if self.authority:
            try:
                context.load_verify_locations(self.authority)
            except (OSError, ssl.SSLError) as error:
                raise CallError(f"the authority {self.authority} can't be read: {error}. It is a PEM file.") from error
        return context


def bearer(account: Account, secret: Secret, offered: Iterable[str]) -> tuple[str, bytes]:
    """How a token is shown: the SASL mechanism, and what is said first in it (RFC 7628, or XOAUTH2 where only that is
    `offered`)."""
    if "XOAUTH2" in offered and "OAUTHBEARER" not in offered:
        return "XOAUTH2", f"user={account.user}\1auth=Bearer {secret.value}\1\1".encode()
    user = account.user.replace("=", "=3D").replace(",", "=2C")
    response = f"n,a={user},\1host={account.host}\1port={account.port}\1auth=Bearer {secret.value}\1\1"
    return "OAUTHBEARER", response.encode()


Login = Callable[[Account, bool], Secret]
"""Finds the secret of an account; called anew, with True, where the first one was refused."""


def parse_url(url: str, schemes: tuple[str, ...] = SCHEMES) -> Account:
    """An account's URL: imaps://user@host/folder. A server that takes mail may want no user. Raises CallError for a
    wrong one, or one with a password in it."""
    try:
        parts = urlsplit(url)
        port = parts.port
    except ValueError as error:
        raise CallError(f"{url!r} is not the URL of an account: {error}.") from error
    if parts.scheme not in schemes:
        what = {SCHEMES: "an account. Accounts begin", SENDING: "a server that takes mail. They begin"}.get(
            schemes, "a place. Places are folders, or begin"
        )
        raise CallError(f"{parts.scheme}:// is not {what} with {', '.join(s + '://' for s in schemes)}.")
    if parts.password is not None:
        raise CallError(
            "a password does not belong in a URL, where others can read it. Leave it out: it is asked for, or comes "
            "from the keyring or WEXAGRAPH_PASSWORD."
        )
    user = unquote(parts.username or "").partition(";")[0]
    if not parts.hostname or not (user or schemes == SENDING):
        raise CallError(f"the account's URL lacks a user or a host. Write it as {parts.scheme}://user@mail.example/.")
    folder = unquote(parts.path).strip("/").partition(";")[0]
    if not steers_no_line(f"{user}{folder}"):
        raise CallError("the account's URL holds a line end or another control character.")
    if folder and parts.scheme.startswith("pop"):
        raise CallError("a POP3 account has no folders. Leave the path out of its URL.")
    return Account(parts.scheme, parts.hostname, port or _PORTS[parts.scheme], user, folder)


def line_failed(account: Account, error: Exception) -> SourceError:
    """A line that can't be had at all, in words for the person at it."""
    where = f"{account.host}, port {account.port}"
    if isinstance(error, ssl.SSLCertVerificationError):
        return SourceError(
            f"{where}: the server's certificate can't be trusted ({error.verify_message}). If the office has its own "
            "authority, name its file with `authority` in wexagraph.toml; otherwise ask who runs the server."
        )
    if isinstance(error, ssl.SSLError):
        return SourceError(f"{where}: no secure line: {error.reason or error}. Check scheme and port of the URL.")
    if isinstance(error, TimeoutError):
        return SourceError(f"{where}: no answer in {account.timeout:g} seconds. Check the line, and run it again.")
    return SourceError(
        f"{where}: {getattr(error, 'strerror', None) or error}. Check host, port and line, and run it again."
    )


def refused(account: Account, answer: str) -> SourceError:
    """A login that the server refused."""
    hint = "Check user and password."
    if any(
        word in answer.lower()
        for word in ("app password", "application-specific", "app-specific", "web login", "basic auth")
    ):
        hint = (
            "The provider wants an app password, made in the settings of the account at the provider, or an OAuth 2 "
            "token (token-command in wexagraph.toml)."
        )
    return SourceError(f"{account.host} refused the login of {account.user}: {answer[:200].rstrip('. ')}. {hint}")
