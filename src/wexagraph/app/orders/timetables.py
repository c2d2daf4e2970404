"""Having the system run orders: systemd (user timers), cron, launchd, or the Task Scheduler. Nothing needs root."""

from __future__ import annotations

import os
import plistlib
import shlex
import shutil
import subprocess
import sys
from dataclasses import dataclass, field
from pathlib import Path
from xml.sax.saxutils import escape

from wexagraph.errors import TargetError

KINDS = ("systemd", "cron", "launchd", "tasks")
_ARGUMENTS = ("order", "run", "--due", "--quiet")
_LABEL = "example.wexagraph.orders"
_BEGIN, _END = "# begin: orders of wexagraph", "# end: orders of wexagraph"


@dataclass(frozen=True)
class Timetable:
    """What a system is given: files with their texts (a `table` of cron is no file), and commands for both ways."""

    kind: str
    files: list[tuple[Path, str]]
    install: list[list[str]] = field(default_factory=list)
    uninstall: list[list[str]] = field(default_factory=list)

    def put(self) -> None:
        """Install it, in place of an earlier one. Raises TargetError."""
        if self.kind == "cron":
            _write_crontab(_without_ours(_crontab()) + self.files[0][1])
            return
        for path, text in self.files:
            try:
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_text(text, "utf-16" if self.kind == "tasks" else "utf-8")
            except OSError as error:
                raise TargetError(f"{path} can't be written: {error.strerror or error}.") from error
        for words in self.install:
            _do(words)

    def remove(self) -> None:
        """Take it away. Raises TargetError."""
        if self.kind == "cron":
            _write_crontab(_without_ours(_crontab()))
            return
        for words in self.uninstall:
            _do(words)
        for path, _ in self.files:
            path.unlink(missing_ok=True)


def here() -> str:
    """The kind of timetable that this system has. Raises TargetError where it has none."""
    if sys.platform == "darwin":
        return "launchd"
    if sys.platform == "win32":
        return "tasks"
    if shutil.which("systemctl") and Path("/run/systemd/system").is_dir():
        return "systemd"
    if shutil.which("crontab"):
        return "cron"
    raise TargetError("this system has neither systemd nor cron. `wexagraph order watch` runs orders without them.")


def installed() -> str:
    """The kind of the timetable that runs this user's orders; "" where there is none."""
    try:
        kind = here()
    except TargetError:
        return ""
    if kind == "cron":
        return kind if " ".join(_ARGUMENTS[:3]) in _crontab() else ""
    return kind if all(path.exists() for path, _ in timetable_of(kind, 5).files) else ""


def timetable_of(kind: str, minutes: int) -> Timetable:
    """The timetable of a kind that looks for due orders every so many minutes."""
    return {"systemd": _systemd, "cron": _cron, "launchd": _launchd, "tasks": _tasks}[kind](program(), minutes)


def program() -> list[str]:
    """How this program is called, by absolute paths."""
    beside = Path(sys.executable).with_name("wexagraph.exe" if sys.platform == "win32" else "wexagraph")
    path = str(beside) if beside.is_file() else shutil.which("wexagraph")
    return [path] if path else [sys.executable, "-m", "wexagraph.cli.main"]


def _systemd(words: list[str], minutes: int) -> Timetable:
    folder = Path(os.environ.get("XDG_CONFIG_HOME") or Path.home() / ".config") / "systemd/user"
    call = " ".join(_systemd_word(word) for word in (*words, *_ARGUMENTS))
    service = (
        f"[Unit]\nDescription=Orders of Wexagraph that are due\n\n[Service]\nType=oneshot\nExecStart={call}\nNice=10\n"
    )
    timer = (
        "[Unit]\nDescription=Looks for orders of Wexagraph that are due\n\n"
        f"[Timer]\nOnCalendar=*:0/{minutes}\nPersistent=true\nAccuracySec=10s\n\n[Install]\nWantedBy=timers.target\n"
    )
    name = "wexagraph-orders"
    control = ["systemctl", "--user"]
    return Timetable(
        "systemd",
        [(folder / f"{name}.service", service), (folder / f"{name}.timer", timer)],
        [[*control, "daemon-reload"], [*control, "enable", "--now", f"{name}.timer"]],
        [[*control, "disable", "--now", f"{name}.timer"]],
    )


def _systemd_word(word: str) -> str:
    """A word as ExecStart reads it (systemd.service, command lines): quoted, its specifiers and variables meant as they
    stand."""
    quoted = word.replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%").replace("$", "$$")
    return f'"{quoted}"' if any(letter in word for letter in " \t\"'\\;") else quoted


def _cron(words: list[str], minutes: int) -> Timetable:
    call = " ".join(shlex.quote(word) for word in (*words, *_ARGUMENTS)).replace("%", "\\%")
    return Timetable("cron", [(Path("crontab"), f"{_BEGIN}\n*/{minutes} * * * * {call}\n{_END}\n")])


def _launchd(words: list[str], minutes: int) -> Timetable:
    path = Path.home() / "Library/LaunchAgents" / f"{_LABEL}.plist"
    values = {"Label": _LABEL, "ProgramArguments": [*words, *_ARGUMENTS], "StartInterval": minutes * 60, "Nice": 10}
    target = f"gui/{os.getuid() if hasattr(os, 'getuid') else 0}"
    return Timetable(
        "launchd",
        [(path, plistlib.dumps(values).decode())],
        [["launchctl", "bootstrap", target, str(path)]],
        [["launchctl", "bootout", f"{target}/{_LABEL}"]],
    )


def _tasks(words: list[str], minutes: int) -> Timetable:
    """For the Task Scheduler (its schema of version 1.2)."""
    folder = Path(os.environ.get("LOCALAPPDATA") or Path.home()) / "wexagraph"
    more = [*words[1:], *_ARGUMENTS]
    text = f"""<?xml version="1.0" encoding="UTF-16"?>
<Task version="1.2" xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task">
  <Triggers>
    <TimeTrigger>
      <Repetition><Interval>PT{minutes}M</Interval></Repetition>
      <StartBoundary>2026-01-01T00:00:00</StartBoundary>
    </TimeTrigger>
  </Triggers>
  <Settings>
    <MultipleInstancesPolicy>IgnoreNew</MultipleInstancesPolicy>
    <DisallowStartIfOnBatteries>false</DisallowStartIfOnBatteries>
    <StartWhenAvailable>true</StartWhenAvailable>
    <Hidden>true</Hidden>
  </Settings>
  <Actions>
    <Exec><Command>{escape(words[0])}</Command><Arguments>{escape(subprocess.list2cmdline(more))}</Arguments></Exec>
  </Actions>
</Task>
"""
    path = folder / "orders.xml"
    name = "Wexagraph orders"
    return Timetable(
        "tasks",
        [(path, text)],
        [["schtasks", "/Create", "/F", "/TN", name, "/XML", str(path)]],
        [["schtasks", "/Delete", "/F", "/TN", name]],
    )


def _crontab() -> str:
    done = subprocess.run(["crontab", "-l"], capture_output=True, text=True, check=False)
    return done.stdout if done.returncode == 0 else ""


def _without_ours(table: str) -> str:
    """The table of others: theirs is left as it is."""
    before, begin, rest = table.partition(f"{_BEGIN}\n")
    ours, end, after = rest.partition(f"{_END}\n")
    if begin and not end:  # somebody has taken its end away: what is below it is theirs, but for our call
        after = "".join(line for line in ours.splitlines(keepends=True) if " ".join(_ARGUMENTS) not in line)
    kept = before + after
    return kept if not kept or kept.endswith("\n") else f"{kept}\n"


def _write_crontab(text: str) -> None:
    _do(["crontab", "-"] if text.strip() else ["crontab", "-r"], text)


def _do(words: list[str], text: str = "") -> None:
    try:
        done = subprocess.run(words, input=text, capture_output=True, text=True, timeout=60, check=False)
    except (OSError, subprocess.SubprocessError) as error:
        raise TargetError(f"{words[0]} can't be run: {error}.") from error
    if done.returncode and words[-1] != "-r":
        raise TargetError(f"{' '.join(words)} failed: {(done.stderr or done.stdout).strip() or done.returncode}.")
