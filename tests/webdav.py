"""Apache and nginx with WebDAV on this machine, over an encrypted line, with a user and a password."""

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

from tests.servers import UNPACKED, environment, free_ports

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


class WebDavServer:
    """A server whose folder `root` is at the top. `close` ends it."""

    def __init__(self) -> None:
        self._home = Path(tempfile.mkdtemp(prefix="wexagraph-webdav-", dir="/tmp"))
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
        if os.getuid() == 0:  # it does not run as root
            for folder in (self.root, self._home / "locks"):
                shutil.chown(folder, "www-data", "www-data")
        self._process = self.start()
        for _ in range(100):
            try:
                urlopen(f"http://localhost:{self.port}/", timeout=5)
            except URLError as error:
                if "refused" not in str(error):
                    break
            except OSError:
                break
            time.sleep(0.05)

    def start(self) -> subprocess.Popen[bytes]:
        raise NotImplementedError

    @property
    def url(self) -> str:
        return f"davs://{USER}@localhost:{self.port}/"

    def close(self) -> None:
        self._process.terminate()
        self._process.wait(10)
        shutil.rmtree(self._home)


class Apache(WebDavServer):
    def start(self) -> subprocess.Popen[bytes]:
        user = "User www-data\nGroup www-data\n" if os.getuid() == 0 else ""
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
        return subprocess.Popen(("/usr/sbin/apache2", "-f", self._home / "apache.conf", "-D", "FOREGROUND"))


class Nginx(WebDavServer):
    """It answers 204 to any MOVE, and heeds no `If-None-Match`."""

    program = UNPACKED / "usr/sbin/nginx"
    installed = program.exists()

    def start(self) -> subprocess.Popen[bytes]:
        home = self._home
        user = "user www-data www-data;" if os.getuid() == 0 else ""
        (home / "nginx.conf").write_text(
            f"""
            load_module {UNPACKED}/usr/lib/nginx/modules/ngx_http_dav_ext_module.so;
            {user}
            daemon off;
            pid {home}/pid;
            error_log {home}/errors;
            events {{}}
            http {{
                access_log off;
                client_max_body_size 0;
                client_body_temp_path {home}/locks;
                proxy_temp_path {home}/proxy;
                fastcgi_temp_path {home}/fastcgi;
                uwsgi_temp_path {home}/uwsgi;
                scgi_temp_path {home}/scgi;
                server {{
                    listen 127.0.0.1:{self.port} ssl;
                    ssl_certificate {home}/server.pem;
                    ssl_certificate_key {home}/server.pem;
                    root {self.root};
                    auth_basic records;
                    auth_basic_user_file {home}/users;
                    dav_methods PUT DELETE MKCOL COPY MOVE;
                    dav_ext_methods PROPFIND OPTIONS;
                }}
            }}
            """
        )
        call = (self.program, "-p", home, "-c", home / "nginx.conf", "-e", home / "errors")
        return subprocess.Popen(call, env=environment())
