"""Apache with WebDAV on this machine, over an encrypted line, with a user and a password."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
import time
from pathlib import Path
from urllib.error import URLError
from urllib.request import urlopen

import trustme

from tests.servers import free_ports

USER, PASSWORD = "records", "tide"
_MODULES = (
    "mpm_event",
    "authn_core",
    "authn_file",
    "authz_core",
    "authz_user",
    "auth_basic",
    "dir",
    "dav",
    "dav_fs",
    "ssl",
)


class Apache:
    """A server whose folder `root` is at the top. `close` ends it."""

    def __init__(self) -> None:
        self._home = Path(tempfile.mkdtemp(prefix="wexagraph-apache-", dir="/tmp"))
        self._home.chmod(0o755)
        self.root, (self.port,) = self._home / "root", free_ports(1)
        self.root.mkdir()
        (self._home / "locks").mkdir()
        authority = trustme.CA()
        certificate = authority.issue_cert("localhost")
        self.authority = self._home / "authority.pem"
        authority.cert_pem.write_to_path(str(self.authority))
        certificate.private_key_and_cert_chain_pem.write_to_path(str(self._home / "server.pem"))
        secret = subprocess.run(("openssl", "passwd", "-apr1", PASSWORD), capture_output=True, check=True).stdout
        (self._home / "users").write_text(f"{USER}:{secret.decode()}")
        user = ""
        if os.getuid() == 0:  # it does not run as root
            user = "User www-data\nGroup www-data\n"
            for folder in (self.root, self._home / "locks"):
                shutil.chown(folder, "www-data", "www-data")
        modules = "".join(f"LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so\n" for name in _MODULES)
        (self._home / "apache.conf").write_text(
            f"""{modules}{user}
            ServerRoot {self._home}
            ServerName localhost
            Listen 127.0.0.1:{self.port}
            PidFile {self._home}/pid
            ErrorLog {self._home}/errors
            DavLockDB {self._home}/locks/lock
            DocumentRoot {self.root}
            SSLEngine on
            SSLCertificateFile {self._home}/server.pem
            DirectoryIndex disabled
            <Location />
                Dav On
                AuthType Basic
                AuthName records
                AuthUserFile {self._home}/users
                Require valid-user
            </Location>
            """
        )
        self._process = subprocess.Popen(("/usr/sbin/apache2", "-f", self._home / "apache.conf", "-D", "FOREGROUND"))
        for _ in range(100):
            try:
                urlopen(f"http://localhost:{self.port}/", timeout=5)
            except URLError as error:
                if "refused" not in str(error):
                    break
            except OSError:
                break
            time.sleep(0.05)

    @property
    def url(self) -> str:
        return f"davs://{USER}@localhost:{self.port}/"

    def close(self) -> None:
        self._process.terminate()
        self._process.wait(10)
        shutil.rmtree(self._home)
