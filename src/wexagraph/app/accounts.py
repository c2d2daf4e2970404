"""Names for accounts and places, and where their passwords come from: the keyring, the environment, a command, or a
prompt."""

from __future__ import annotations

import json
from dataclasses import dataclass, replace
from pathlib import Path

from wexagraph.app.secrets import Prompt, command_output, from_environment
from wexagraph.errors import CallError, SourceError, TargetError
from wexagraph.sources.accounts import SCHEMES, Account, Login, Secret, parse_url
from wexagraph.text import one_line

SERVICE = "wexagraph"
VARIABLE = "WEXAGRAPH_PASSWORD"
KEYS = ("url", "password-variable", "password-command", "token-command", "authority", "retries", "search-timeout")


@dataclass(frozen=True)
class Known:
    """An account of the configuration: its URL, and how its secret is found."""

    url: str
    variable: str = VARIABLE
    password_command: str = ""
    token_command: str = ""
    authority: str = ""
    retries: int = 8
    search_timeout: int = 300

    def account(self, schemes: tuple[str, ...] = SCHEMES) -> Account:
        """The account to open. Raises CallError."""
        return replace(
            parse_url(self.url, schemes),
            authority=self.authority,
            retries=self.retries,
            search_timeout=self.search_timeout,
        )

    def login(self, prompt: Prompt | None) -> Login:
        """What finds the account's secret; `prompt` is None where nobody can be asked. It raises SourceError."""
        return lambda account, again: self._secret(account, again, prompt)

    def _secret(self, account: Account, again: bool, prompt: Prompt | None) -> Secret:
        if self.token_command:
            return Secret(command_output(self.token_command, "token-command of wexagraph.toml"), token=True)
        if again:
            raise SourceError(f"{account.host} refuses the password of {account.user} that it took before. Check it.")
        if self.password_command:
            return Secret(command_output(self.password_command, "password-command of wexagraph.toml"))
        if password := from_environment(self.variable):
            return Secret(password)
        stored = from_keyring(account)
        if stored is not None:
            return Secret(stored)
        if prompt is not None:
            return Secret(prompt(f"Password of {one_line(account.name)}", False))
        raise SourceError(
            f"no password for {account.name}: none in the keyring, none in {self.variable}, and no terminal to ask at. "
            f"Set {self.variable}, or store one with `wexagraph account add` or `place add`."
        )


def from_keyring(account: Account) -> str | None:
    """The password that the system's keyring has for an account; None where there is none, or no keyring."""
    import keyring
    from keyring.errors import KeyringError

    try:
        return keyring.get_password(SERVICE, _entry(account))
    except KeyringError:
        return None


def has_keyring() -> bool:
    """Whether this machine has a keyring that passwords can be stored in."""
    import keyring
    from keyring.backends import fail, null

    return not isinstance(keyring.get_keyring(), fail.Keyring | null.Keyring)


def to_keyring(account: Account, password: str) -> None:
    """Store a password. Raises TargetError where this machine has no keyring."""
    import keyring
    from keyring.errors import KeyringError

    try:
        keyring.set_password(SERVICE, _entry(account), password)
    except KeyringError as error:
        raise TargetError(
            f"this machine has no keyring to store a password in ({type(error).__name__}). Use {VARIABLE}, or a "
            "password-command in wexagraph.toml."
        ) from error


def out_of_keyring(account: Account) -> bool:
    """Take a password out of the keyring. Returns whether one was there."""
    import keyring
    from keyring.errors import KeyringError

    try:
        keyring.delete_password(SERVICE, _entry(account))
    except KeyringError:
        return False
    return True


def _entry(account: Account) -> str:
    return f"{account.scheme.removesuffix('s')}:{account.user}@{account.host}:{account.port}"


@dataclass(frozen=True)
class Names:
    """The names that `account add` or `place add` has given, each with its URL, in a file of the user's configuration
    folder. No password is ever in it."""

    kind: str

    @property
    def path(self) -> Path:
        import platformdirs

        return platformdirs.user_config_path("wexagraph", appauthor=False) / f"{self.kind}s.json"

    def read(self) -> dict[str, Known]:
        """What has a name. Raises CallError where the file is damaged."""
        path = self.path
        try:
            content = json.loads(path.read_text("utf-8"))
            return {name: Known(entry["url"], authority=entry.get("authority", "")) for name, entry in content.items()}
        except FileNotFoundError:
            return {}
        except (OSError, ValueError, AttributeError, KeyError, TypeError) as error:
            raise CallError(
                f"{path} can't be read: {error}. Mend or remove it, and add the {self.kind}s again."
            ) from error

    def keep(self, names: dict[str, Known]) -> None:
        """Write the file anew, whole or not at all. Raises TargetError."""
        path = self.path
        content = {
            name: {"url": known.url, **({"authority": known.authority} if known.authority else {})}
            for name, known in names.items()
        }
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            waiting = path.with_suffix(".new")
            waiting.write_text(json.dumps(content, indent=1, ensure_ascii=False) + "\n", "utf-8")
            waiting.replace(path)
        except OSError as error:
            raise TargetError(f"{path} can't be written: {error.strerror or error}.") from error


ACCOUNTS, PLACES = Names("account"), Names("place")
