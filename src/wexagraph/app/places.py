"""Places that are delivered to: opened by a name, a URL or a path, and what was made delivered to them."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from difflib import get_close_matches
from pathlib import Path

from wexagraph.app.accounts import Known
from wexagraph.app.configuration import Configuration
from wexagraph.app.orders.running import state_folder
from wexagraph.app.secrets import Prompt
from wexagraph.errors import CallError
from wexagraph.exports.register import tell_links
from wexagraph.exports.verify import JOURNAL
from wexagraph.output.target import keep_apart
from wexagraph.reports import Progress
from wexagraph.sending.delivery import DeliveryReport, deliver, delivered_to
from wexagraph.sending.made import folders_in
from wexagraph.sending.places import FolderPlace, Place
from wexagraph.sources.accounts import PLACES, parse_url
from wexagraph.text import one_line


def open_place(
    named: str,
    configuration: Configuration,
    root: Path | None = None,
    prompt: Prompt | None = None,
    until: datetime | None = None,
) -> Place:
    """A place: a folder, a URL (davs://, sftp://, s3://), or `@name` of the configuration; a folder apart from `root`,
    which is to go there. `until` is when addresses cease to hold that a storage signs. Raises CallError,
    SourceError."""
    known = place_named(named, configuration)
    if "://" not in known.url:
        if root is not None:
            keep_apart(root, known.url, around=True)
        return FolderPlace(Path(known.url).expanduser())
    account = known.account(PLACES)
    if account.scheme == "sftp":
        from wexagraph.sending.sftp import SftpPlace

        return SftpPlace(account, known.login(prompt))
    if account.scheme == "s3":
        from wexagraph.sending.s3 import S3Place

        return S3Place(account, known.login(prompt), until)
    from wexagraph.sending.webdav import WebDavPlace

    return WebDavPlace(account, known.login(prompt))


def place_named(named: str, configuration: Configuration) -> Known:
    """What a place is called, and how its secret is found. Raises CallError."""
    if not named.startswith("@"):
        if "://" in named:
            parse_url(named, PLACES)
        return Known(named)
    known = configuration.places
    if named[1:] not in known:
        near = get_close_matches(named[1:], known, n=1)
        hint = f" Did you mean @{near[0]}?" if near else ""
        names = ", ".join(f"@{name}" for name in sorted(known)) or "none yet"
        raise CallError(
            f"no place is called {one_line(named)}.{hint} Known: {names}. `wexagraph place add` names one, or [places] "
            "in your own wexagraph.toml."
        )
    return known[named[1:]]


def known_places(root: Path, configuration: Configuration) -> list[str]:
    """The places that have names, and those without one that a folder was delivered to before."""
    urls = {known.url.rstrip("/") for known in configuration.places.values()}
    before = [place for place in delivered_to(root) if place not in urls] if root.is_dir() else []
    return [*(f"@{name}" for name in sorted(configuration.places)), *before]


def check_place(named: str, root: str, configuration: Configuration) -> None:
    """Raise CallError where what will be in the folder `root` can't be delivered to a place: before hours of work."""
    known = place_named(named, configuration)
    if "://" not in known.url:
        keep_apart(Path(root), known.url, around=True)
        FolderPlace(Path(known.url).expanduser()).close()


def deliver_to(
    named: str,
    root: Path,
    configuration: Configuration,
    prompt: Prompt | None,
    *,
    dry: bool = False,
    links: bool = False,
    until: datetime | None = None,
    progress: Callable[[Progress], None] | None = None,
    stopped: Callable[[], bool] = lambda: False,
) -> DeliveryReport:
    """Make a place the mirror of what was made in a folder, or of one file. Raises CallError, SourceError,
    TargetError."""
    with open_place(named, configuration, root, prompt, until) as place:
        left: list[tuple[str, str]] = []
        if links and not dry and until is None and root.is_dir():
            name = root.resolve().name
            for folder in folders_in(root):
                if (folder / JOURNAL).is_file():
                    at = folder.relative_to(root).as_posix()
                    left += tell_links(folder, place.link(name if at == "." else f"{name}/{at}"))
        report = deliver(
            *(root, place, state_folder() / "deliveries"), dry=dry, links=links, progress=progress, stopped=stopped
        )
        report.unreadable += left
        return report
