"""Telling somebody of a run: a program that gets the report, or the desktop. One that can't be told loses nothing."""

from __future__ import annotations

import json
import shlex
import shutil
import subprocess
import sys
from collections.abc import Iterable
from typing import Any

from wexagraph.errors import CallError
from wexagraph.records.order_log import DONE, Run
from wexagraph.reports import Report
from wexagraph.text import one_line

OF_WHAT = ("always", "new", "failed")
_SECONDS = 60


def check_notices(wishes: tuple[str, ...]) -> None:
    """Raise CallError for a notice that can't be given: what is not desktop[,WHAT] or command:PROGRAM[,WHAT]."""
    for wish in wishes:
        who, _ = _parsed(wish)
        if who != "desktop" and not who.removeprefix("command:").strip():
            raise CallError(f"--notify {wish!r} names no program. Write command:PROGRAM.")


def _parsed(wish: str) -> tuple[str, str]:
    """Who is told, and of what."""
    who, comma, what = wish.rpartition(",")
    if not comma or what.strip() not in OF_WHAT:
        who, what = wish, "new" if wish.strip() == "desktop" else "always"
    who = who.strip()
    if who != "desktop" and not who.startswith("command:"):
        raise CallError(
            f"--notify {wish!r} is nobody to tell. Write desktop or command:PROGRAM, and behind a comma of what: "
            f"{', '.join(OF_WHAT)}."
        )
    return who, what.strip()


def give_notice(wishes: Iterable[str], run: Run, report: Report) -> list[str]:
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
                _tell(who, run, report)
            except (OSError, ValueError, subprocess.SubprocessError) as error:
                troubles.append(f"{run.name}: the notice by {who.partition(':')[0]} could not be given: {error}.")
    return troubles


def _tell(who: str, run: Run, report: Report) -> None:
    if who == "desktop":
        sums = f"{run.written} new, {run.failed} failed" if run.state == DONE or run.written else run.state
        reason = f". {run.reasons[0]}" if run.reasons else ""
        _on_the_desktop(f"Wexagraph: {run.name}", one_line(f"{sums}{reason}"))
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
