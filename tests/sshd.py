"""OpenSSH on this machine: SFTP for one user, by a key that an agent holds."""

from __future__ import annotations

import getpass
import os
import shutil
import socket
import subprocess
import tempfile
import time
from pathlib import Path

from tests.servers import free_ports


class Sshd:
    """A server of this user's files below `root`. `environment` leads to the agent, `known` are the hosts that are known;
    `close` ends it."""

    def __init__(self) -> None:
        self._home = Path(tempfile.mkdtemp(prefix="wexagraph-sshd-", dir="/tmp"))
        self.root, (self.port,) = self._home / "root", free_ports(1)
        self.root.mkdir()
        self.key, self.known = self._home / "key", self._home / "known hosts"
        for name in (self._home / "host", self.key):
            subprocess.run(("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", name), check=True)
        host = (self._home / "host.pub").read_text().rsplit(" ", 1)[0]
        self.known.write_text(f"[localhost]:{self.port} {host}\n")
        self.environment = {"SSH_AUTH_SOCK": str(self._home / "agent")}
        self._agent = subprocess.Popen(("ssh-agent", "-D", "-a", self._home / "agent"), stdout=subprocess.DEVNULL)
        (self._home / "sshd_config").write_text(
            f"""
            ListenAddress 127.0.0.1:{self.port}
            HostKey {self._home}/host
            PidFile {self._home}/pid
            AuthorizedKeysFile {self.key}.pub
            StrictModes no
            UsePAM no
            PasswordAuthentication no
            KbdInteractiveAuthentication no
            Subsystem sftp internal-sftp
            MaxStartups 100
            """
        )
        Path("/run/sshd").mkdir(exist_ok=True) if os.getuid() == 0 else None
        command = ("/usr/sbin/sshd", "-D", "-e", "-f", self._home / "sshd_config")
        self._log = (self._home / "log").open("wb")
        self._process = subprocess.Popen(command, stderr=self._log)
        for _ in range(100):
            with socket.socket() as line:
                if line.connect_ex(("127.0.0.1", self.port)) == 0 and (self._home / "agent").exists():
                    break
            time.sleep(0.05)
        subprocess.run(("ssh-add", "-q", self.key), env={**os.environ, **self.environment}, check=True)

    @property
    def url(self) -> str:
        return f"sftp://{getpass.getuser()}@localhost:{self.port}{self.root}/"

    def close(self) -> None:
        for process in (self._process, self._agent):
            process.terminate()
            process.wait(10)
        self._log.close()
        shutil.rmtree(self._home)
