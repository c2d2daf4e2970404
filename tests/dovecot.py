"""A real IMAP and POP3 server for the tests: Dovecot, on ports of its own, with a mailbox in a temporary folder."""

from __future__ import annotations

import contextlib
import imaplib
import os
import pwd
import shutil
import ssl
import subprocess
import time
from pathlib import Path

import trustme

from tests.servers import PASSWORD, USER, MailServer, free_ports

INSTALLED = shutil.which("dovecot") is not None and Path("/usr/lib/dovecot/pop3").exists() and os.geteuid() == 0
_CONFIGURATION = """
protocols = imap pop3
base_dir = {root}/run
state_dir = {root}/state
log_path = {root}/dovecot.log
listen = 127.0.0.1
mail_location = {store}
default_internal_user = {user}
default_login_user = {user}
default_internal_group = {group}
first_valid_uid = 1
mail_max_userip_connections = 50
ssl = yes
ssl_cert = <{root}/server.pem
ssl_key = <{root}/server.key
disable_plaintext_auth = no
auth_mechanisms = plain login
auth_verbose = no
auth_failure_delay = 0
passdb {{
  driver = static
  args = password={password}
}}
userdb {{
  driver = static
  args = uid={uid} gid={gid} home={root}/home
}}
service anvil {{
  chroot =
}}
service imap-login {{
  chroot =
  inet_listener imap {{
    port = {imap}
  }}
  inet_listener imaps {{
    port = {imaps}
    ssl = yes
  }}
}}
service pop3-login {{
  chroot =
  inet_listener pop3 {{
    port = {pop}
  }}
  inet_listener pop3s {{
    port = {pops}
    ssl = yes
  }}
}}
namespace inbox {{
  inbox = yes
  separator = {separator}
  prefix = {prefix}
  mailbox Trash {{
    auto = create
    special_use = \\Trash
  }}
}}
mail_plugins = $mail_plugins notify mail_log
protocol imap {{
{capability}  rawlog_dir =
}}
"""


class Dovecot(MailServer):
    """Starts when it is made; `close` stops it and removes all it had. `capability` is what it says that it can,
    `store` the form of its mailbox."""

    installed = INSTALLED

    def __init__(
        self, separator: str = ".", prefix: str = "", capability: str = "", store: str = "maildir:{root}/mail"
    ) -> None:
        super().__init__()
        self.separator, self.prefix, self.moves = separator, prefix, not capability or "UIDPLUS" in capability
        self.imap, self.imaps, self.pop, self.pops = free_ports(4)
        owner = pwd.getpwnam("mail")
        authority = trustme.CA()
        certificate = authority.issue_cert("localhost", "127.0.0.1")
        self.authority = self.root / "authority.pem"
        authority.cert_pem.write_to_path(str(self.authority))
        (self.root / "server.pem").write_bytes(b"".join(blob.bytes() for blob in certificate.cert_chain_pems))
        certificate.private_key_pem.write_to_path(str(self.root / "server.key"))
        for name in ("mail", "home", "rawlog"):
            (self.root / name).mkdir()
            os.chown(self.root / name, owner.pw_uid, owner.pw_gid)
        configuration = _CONFIGURATION.replace("rawlog_dir =", f"rawlog_dir = {self.root}/rawlog").format(
            root=self.root,
            user="mail",
            group="mail",
            uid=owner.pw_uid,
            gid=owner.pw_gid,
            password=PASSWORD,
            imap=self.imap,
            imaps=self.imaps,
            pop=self.pop,
            pops=self.pops,
            separator=separator,
            prefix=prefix,
            store=store.format(root=self.root),
            capability=f"  imap_capability = {capability}\n" if capability else "",
        )
        (self.root / "dovecot.conf").write_text(configuration)
        self._process = subprocess.Popen(
            ["dovecot", "-F", "-c", str(self.root / "dovecot.conf")],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        for _ in range(50):
            with contextlib.suppress(OSError, imaplib.IMAP4.error):
                self.client().logout()
                return
            time.sleep(0.1)
        log = (self.root / "dovecot.log").read_text() if (self.root / "dovecot.log").exists() else "no log"
        self.close()
        raise RuntimeError(f"Dovecot does not start: {log}")

    def close(self) -> None:
        self._process.terminate()
        self._process.wait(10)
        super().close()

    def client(self) -> imaplib.IMAP4:
        """A logged-in client of the standard library, to look at the server with other eyes."""
        client = imaplib.IMAP4_SSL(
            "localhost", self.imaps, ssl_context=ssl.create_default_context(cafile=str(self.authority))
        )
        client.login(USER, PASSWORD)
        return client

    def commands(self) -> list[str]:
        """Every command line that a client sent after its login, in the order of the sessions."""
        return [line for path in self.sessions() for line in path.read_bytes().decode("latin-1").splitlines()]

    def sessions(self) -> list[Path]:
        """What the client sent in each session, a file each."""
        return sorted((self.root / "rawlog").glob("*.in"), key=lambda path: path.stat().st_mtime_ns)

    def forget_commands(self) -> None:
        for path in (self.root / "rawlog").iterdir():
            path.unlink()
