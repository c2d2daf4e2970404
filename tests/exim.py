"""Exim on this machine: a server that takes mail on a port of its own, changes what mail servers change on the way, and
keeps each mail in a file."""

from __future__ import annotations

import os
import pwd
import shutil
import smtplib
import subprocess
import tempfile
import time
from contextlib import suppress
from pathlib import Path

from tests.servers import free_ports

_PROGRAM, _USER = Path("/usr/sbin/exim4"), "Debian-exim"
INSTALLED = _PROGRAM.exists() and os.getuid() == 0


class Exim:
    """A server without a login. `mails` are those that came; `close` ends it."""

    def __init__(self) -> None:
        self._home = Path(tempfile.mkdtemp(prefix="wexagraph-exim-", dir="/tmp"))
        (self.port,) = free_ports(1)
        own = pwd.getpwnam(_USER)
        for folder in (self._home, self._home / "spool", self._home / "mail"):
            folder.mkdir(exist_ok=True)
            os.chown(folder, own.pw_uid, own.pw_gid)
        (self._home / "exim.conf").write_text(
            f"""
exim_user = {_USER}
primary_hostname = mail.saltmere.example
spool_directory = {self._home}/spool
log_file_path = {self._home}/%slog
pid_file_path = {self._home}/pid
daemon_smtp_ports = {self.port}
local_interfaces = 127.0.0.1
tls_advertise_hosts =
acl_smtp_rcpt = accept
acl_smtp_data = accept
keep_environment =
begin routers
all:
  driver = accept
  transport = keep
begin transports
keep:
  driver = appendfile
  directory = {self._home}/mail
  user = {_USER}
"""
        )
        call = (_PROGRAM, "-C", self._home / "exim.conf", "-bdf", "-q1h")
        self._process = subprocess.Popen(call, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        for _ in range(100):
            with suppress(OSError), smtplib.SMTP("127.0.0.1", self.port, timeout=5):
                return
            time.sleep(0.05)
        raise RuntimeError("exim does not answer")

    def mails(self, count: int) -> list[bytes]:
        """The mails that came, once there are so many."""
        for _ in range(200):
            # a file has the name of a mail once it is whole
            paths = sorted((self._home / "mail").glob("q*"), key=lambda path: path.stat().st_mtime_ns)
            if len(paths) >= count:
                return [path.read_bytes() for path in paths]
            time.sleep(0.05)
        raise AssertionError(f"{len(paths)} mails of {count} came")

    def close(self) -> None:
        self._process.terminate()
        self._process.wait(10)
        shutil.rmtree(self._home)
