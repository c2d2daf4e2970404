"""Telling somebody of a run: by mail, a program that gets the report, or the desktop. One that can't be told loses
nothing."""

from __future__ import annotations

import json
import shlex
import shutil
import subprocess
import sys
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from wexagraph.app.configuration import Configuration
from wexagraph.errors import CallError, WexagraphError
from wexagraph.records.order_log import DONE, Run
from wexagraph.reports import Report
from wexagraph.text import one_line

OF_WHAT = ("always", "new", "failed")
_SECONDS = 60
_MOST_REASONS = 50


def check_notices(wishes: tuple[str, ...], configuration: Configuration) -> None:
    """Raise CallError for a notice that can't be given: what is not desktop, mail:ADDRESS or command:PROGRAM, each with
    [,WHAT], and an address that the configuration does not allow."""
    for wish in wishes:
        who, _ = _parsed(wish)
        if who == "command:":
            raise CallError(f"--notify {wish!r} names no program. Write command:PROGRAM.")
        if who.startswith("command:"):
            _checked_program(who.removeprefix("command:"), wish)
        if who.startswith("mail:"):
            _allowed(who.removeprefix("mail:"), configuration)


def _checked_program(command: str, wish: str) -> None:
    """Raise CallError where a notice's program is not there."""
    try:
        program = shlex.split(command)[0]
    except (ValueError, IndexError) as error:
        raise CallError(f"--notify {wish!r} can't be read as a command: {error}.") from error
    if shutil.which(program) is None:
        raise CallError(f"--notify {wish!r}: there is no program {one_line(program)!r} here, or it may not be run.")


def _allowed(address: str, configuration: Configuration) -> str:
    """An address that may be told. Raises CallError."""
    sending = configuration.sending
    if not (sending.get("by") and sending.get("sender")):
        raise CallError(
            "a notice by mail needs a server and a sender: by and sender under [sending] in your own wexagraph.toml."
        )
    if address.lower() not in {one.lower() for one in configuration.told}:
        raise CallError(
            f"{one_line(address)!r} may not be told by mail. Add it to addresses under [notices] in your own "
            "wexagraph.toml."
        )
    return address


def _parsed(wish: str) -> tuple[str, str]:
    """Who is told, and of what."""
    who, comma, what = wish.rpartition(",")
    if not comma or what.strip() not in OF_WHAT:
        who, what = wish, "new" if wish.strip() == "desktop" else "always"
    kind, colon, whom = who.partition(":")
    who = f"{kind.strip()}{colon}{whom.strip()}"
    if who != "desktop" and not who.startswith(("command:", "mail:")):
        raise CallError(
            f"--notify {wish!r} is nobody to tell. Write desktop, mail:ADDRESS or command:PROGRAM, and behind a comma "
            f"of what: {', '.join(OF_WHAT)}."
        )
    return who, what.strip()


def give_notice(wishes: Iterable[str], run: Run, report: Report, configuration: Configuration) -> list[str]:
    """Tell all who wish it of a run. Returns what went wrong with that, as sentences."""
    troubles = []
    for wish in wishes:
        try:
            who, what = _parsed(wish)
        except CallError as error:
            troubles.append(str(error))
            continue
        if what == "always" or (what == "new" and run.written) or (run.state != DONE):
            try:
                _tell(who, run, report, configuration)
            except (OSError, ValueError, subprocess.SubprocessError, WexagraphError) as error:
                reason = str(error).rstrip(".")
                troubles.append(f"{run.name}: the notice by {who.partition(':')[0]} could not be given: {reason}.")
    return troubles


def _tell(who: str, run: Run, report: Report, configuration: Configuration) -> None:
    short = f"{run.written} new, {run.failed} failed" if run.state == DONE or run.written else run.state
    if who == "desktop":
        reason = f". {run.reasons[0]}" if run.reasons else ""
        _on_the_desktop(f"Wexagraph: {run.name}", one_line(f"{short}{reason}"))
        return
    if who.startswith("mail:"):
        from wexagraph.app.sending import tell

        address = _allowed(who.removeprefix("mail:"), configuration)
        tell(address, f"Wexagraph: {run.name}: {short}", _in_words(run, report), configuration)
        return
    content: dict[str, Any] = {"order": run.name} | run.as_dict() | {"report": report.as_dict()}
    done = subprocess.run(
        shlex.split(who.removeprefix("command:")),
        input=json.dumps(content, ensure_ascii=False).encode(),
        stdout=subprocess.DEVNULL,
        timeout=_SECONDS,
        check=False,
    )
    if done.returncode:
        raise OSError(f"the program ended with code {done.returncode}")


def _in_words(run: Run, report: Report) -> str:
    """What a mail says of a run: how it ended, its sums, where its results are, and what failed."""
    lines = [f"{run.name}, {run.started:%Y-%m-%d %H:%M}: {run.state}.", ""]
    lines += [f"{run.written} new, {run.already_there} already there, {run.failed} failed, of {run.chosen} chosen."]
    if report.into:
        lines += ["", f"The results are in {Path(report.into).resolve()}"]
    if report.delivery is not None:
        where = getattr(report.delivery, "address", "") or report.delivery.into
        lines.append(f"They were delivered to {where}")
    if run.reasons:
        lines += ["", *run.reasons[:_MOST_REASONS]]
    if len(run.reasons) > _MOST_REASONS:
        lines.append(f"... and {len(run.reasons) - _MOST_REASONS} more.")
    return "\n".join(map(one_line, lines)) + "\n"


def _on_the_desktop(title: str, text: str) -> None:
    """Show a notice by the system's own service (on Linux that of the Desktop Notifications Specification)."""
    if sys.platform == "darwin":
        script = "on run {a, b}\ndisplay notification b with title a\nend run"
        words = ["osascript", "-e", script, title, text]
    elif sys.platform == "win32":
        words = ["msg", "*", "/time:20", f"{title}: {text}"]
    elif shutil.which("notify-send"):
        words = ["notify-send", "--app-name=Wexagraph", "--", title, text]
    else:
        words = [
            *("gdbus", "call", "--session", "--dest=org.freedesktop.Notifications"),
            *("--object-path=/org/freedesktop/Notifications", "--method=org.freedesktop.Notifications.Notify"),
            *("Wexagraph", "0", "", title, text, "[]", "{}", "10000"),
        ]
    subprocess.run(words, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, timeout=_SECONDS, check=True)
