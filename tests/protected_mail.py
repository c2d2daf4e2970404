"""An office's and a sender's keys, and mail that is signed and encrypted with them: made by openssl and gpg, so that what is
opened and proved is nothing of ours."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

_EXTENSIONS = """
[ca]
basicConstraints = critical,CA:TRUE
keyUsage = critical,keyCertSign,cRLSign
subjectKeyIdentifier = hash
[mail]
basicConstraints = CA:FALSE
keyUsage = critical,digitalSignature,keyEncipherment,keyAgreement
extendedKeyUsage = emailProtection
subjectKeyIdentifier = hash
[server]
basicConstraints = CA:FALSE
extendedKeyUsage = serverAuth
[withdrawals]
database = {home}/index.txt
default_md = sha256
default_crl_days = 3000
"""
INSIDE = "Berth 7 is let to the Pelican. KITTIWAKE"
ENTITY = (
    'Content-Type: multipart/mixed; boundary="in"\r\n\r\n--in\r\nContent-Type: text/plain; charset=utf-8\r\n\r\n'
    f'{INSIDE}\r\n--in\r\nContent-Type: text/csv\r\nContent-Disposition: attachment; filename="berths.csv"\r\n\r\n'
    "berth,name\r\n7,Pelican\r\n--in--\r\n"
)
PASSWORD = "tide"


class Keys:
    """Makes in a folder: root.pem, ines.pem, mallory.pem (another person's), stranger.pem (of another root), old.pem
    (expired), gone.pem (withdrawn, by withdrawals.pem), server.pem, each with its .key; clerk.p12 and clerk-ec.p12 with
    PASSWORD. With `gpg`: clerk-secret.asc, clerk.asc, ines.asc, stranger.asc, ended.asc."""

    def __init__(self, home: Path, gpg: bool = False) -> None:
        self.home = home
        home.mkdir(parents=True, exist_ok=True)
        (home / "x.cnf").write_text(_EXTENSIONS.format(home=home))
        (home / "index.txt").write_text("")
        for root in ("root", "other"):
            self._root(root)
        self.issue("ines", "Ines Carvalho", "ines@saltmere.example")
        self.issue("mallory", "Mallory", "mallory@saltmere.example")
        self.issue("stranger", "Ines Carvalho", "ines@saltmere.example", root="other")
        self.issue("old", "Ines Carvalho", "ines@saltmere.example", dates=("20190101000000Z", "20200101000000Z"))
        self.issue("gone", "Ines Carvalho", "ines@saltmere.example")
        self.issue("server", "Ines Carvalho", "ines@saltmere.example", use="server")
        self.issue("clerk", "Clerk", "clerk@saltmere.example")
        self.issue("clerk-ec", "Clerk", "clerk@saltmere.example", kind="ec")
        self.issue("else", "Else", "else@saltmere.example")
        for name in ("clerk", "clerk-ec"):
            self.openssl(
                *("pkcs12", "-export", "-inkey", f"{name}.key", "-in", f"{name}.pem", "-out", f"{name}.p12"),
                *("-passout", f"pass:{PASSWORD}"),
            )
        withdraw = ("ca", "-config", "x.cnf", "-name", "withdrawals", "-keyfile", "root.key", "-cert", "root.pem")
        self.openssl(*withdraw, "-revoke", "gone.pem")
        self.openssl(*withdraw, "-gencrl", "-out", "withdrawals.pem")
        if gpg:
            self._gpg_keys()

    def openssl(self, *call: str, data: bytes = b"") -> bytes:
        done = subprocess.run(["openssl", *call], input=data, cwd=self.home, capture_output=True)
        if done.returncode:
            raise AssertionError(f"openssl {' '.join(call)}: {done.stderr.decode()}")
        return done.stdout

    def _root(self, name: str) -> None:
        self.issue(name, f"Saltmere {name}", "", root=name, use="ca")

    def issue(
        self,
        name: str,
        holder: str,
        address: str,
        root: str = "root",
        kind: str = "rsa",
        use: str = "mail",
        dates: tuple[str, str] = ("20200101000000Z", "20360101000000Z"),
    ) -> None:
        """A key and a certificate for an address."""
        new = ("rsa:2048",) if kind == "rsa" else ("ec", "-pkeyopt", "ec_paramgen_curve:P-256")
        subject = f"/CN={holder}" + (f"/emailAddress={address}" if address else "")
        self.openssl(
            "req", "-new", "-newkey", *new, "-nodes", "-keyout", f"{name}.key", "-subj", subject, "-out", "r.csr"
        )
        (self.home / f"{root}.txt").write_text("")
        (self.home / "issue.cnf").write_text(
            f"[issue]\ndatabase = {root}.txt\nnew_certs_dir = .\ndefault_md = sha256\npolicy = any\nrand_serial = yes\n"
            "unique_subject = no\n[any]\ncommonName = supplied\nemailAddress = optional\n"
        )
        self.openssl(
            *(
                "ca",
                "-batch",
                "-notext",
                "-config",
                "issue.cnf",
                "-name",
                "issue",
                "-in",
                "r.csr",
                "-out",
                f"{name}.pem",
            ),
            *(
                "-keyfile",
                f"{root}.key",
                *(("-selfsign",) if root == name else ("-cert", f"{root}.pem")),
                "-startdate",
                dates[0],
                "-enddate",
                dates[1],
            ),
            *("-extfile", "x.cnf", "-extensions", use, "-preserveDN"),
        )

    def signed(self, entity: str = ENTITY, by: str = "ines", *more: str) -> bytes:
        """An entity signed: multipart/signed, or with -nodetach a SignedData."""
        call = ("cms", "-sign", "-crlfeol", "-signer", f"{by}.pem", "-inkey", f"{by}.key")
        return self.openssl(*call, *more, data=entity.encode())

    def encrypted(self, entity: bytes | str = ENTITY, to: str = "clerk", *more: str) -> bytes:
        """An entity encrypted."""
        data = entity.encode() if isinstance(entity, str) else entity
        return self.openssl("cms", "-encrypt", "-binary", *(more or ("-aes256",)), f"{to}.pem", data=data)

    def _gpg_keys(self) -> None:
        self.gpg_ended()
        for person in ("clerk", "ines", "stranger"):
            name = "Ines Carvalho" if person != "clerk" else "Clerk"
            address = f"{'ines' if person != 'clerk' else 'clerk'}@saltmere.example"
            home = self.home / f"gpg-{person}"
            home.mkdir(mode=0o700)
            self.gpg(
                person, "--passphrase", "", "--quick-generate-key", f"{name} <{address}>", "rsa2048", "default", "never"
            )
            self.gpg(
                person, "--passphrase", "", "--quick-add-key", self.fingerprint(person), "rsa2048", "encr", "never"
            )
            (self.home / f"{person}.asc").write_bytes(self.gpg(person, "--armor", "--export"))
        (self.home / "clerk-secret.asc").write_bytes(self.gpg("clerk", "--armor", "--export-secret-keys"))
        for person in ("ines", "stranger"):
            self.gpg(person, "--import", str(self.home / "clerk.asc"))

    def gpg_ended(self) -> None:
        """A key that has ended: ended.asc; what it signs is signed before."""
        (self.home / "gpg-ended").mkdir(mode=0o700)
        self.gpg(
            "ended",
            "--passphrase",
            "",
            "--quick-generate-key",
            "Ines <ines@saltmere.example>",
            "rsa2048",
            "default",
            "1y",
        )
        (self.home / "ended.asc").write_bytes(self.gpg("ended", "--armor", "--export"))

    def fingerprint(self, person: str) -> str:
        lines = self.gpg(person, "--with-colons", "--list-keys").decode().splitlines()
        return next(line.split(":")[9] for line in lines if line.startswith("fpr"))

    def gpg(self, person: str, *call: str, data: bytes = b"") -> bytes:
        when = ("--faked-system-time", "20200601T000000!") if person == "ended" else ()
        base = [
            "gpg",
            "--batch",
            "--quiet",
            *when,
            "--homedir",
            str(self.home / f"gpg-{person}"),
            "--trust-model",
            "always",
        ]
        done = subprocess.run([*base, "--pinentry-mode", "loopback", *call], input=data, capture_output=True)
        if done.returncode:
            raise AssertionError(f"gpg {' '.join(call)}: {done.stderr.decode()}")
        return done.stdout

    def close(self) -> None:
        for home in self.home.glob("gpg-*"):
            subprocess.run(["gpgconf", "--homedir", str(home), "--kill", "all"], capture_output=True)

    def pgp_encrypted(self, entity: str = ENTITY, *more: str) -> bytes:
        """RFC 3156, section 4."""
        armour = self.gpg("ines", "--armor", "--encrypt", "-r", "clerk", *more, data=entity.encode())
        return (
            b'Content-Type: multipart/encrypted; protocol="application/pgp-encrypted"; boundary="pg"\r\n\r\n--pg\r\n'
            b"Content-Type: application/pgp-encrypted\r\n\r\nVersion: 1\r\n--pg\r\nContent-Type: application/octet-stream; "
            b'name="encrypted.asc"\r\n\r\n' + armour + b"\r\n--pg--\r\n"
        )

    def pgp_signed(self, entity: str = ENTITY, by: str = "ines") -> bytes:
        """RFC 3156, section 5."""
        body = entity.rstrip("\r\n")
        signature = self.gpg(by, "--armor", "--detach-sign", data=body.encode())
        return (
            b'Content-Type: multipart/signed; micalg=pgp-sha512; protocol="application/pgp-signature"; boundary="ps"\r\n\r\n'
            b"--ps\r\n"
            + body.encode()
            + b'\r\n--ps\r\nContent-Type: application/pgp-signature; name="signature.asc"\r\n\r\n'
            + signature
            + b"\r\n--ps--\r\n"
        )


def mail(content: bytes, subject: str, sender: str = "Ines Carvalho <ines@saltmere.example>", more: str = "") -> bytes:
    """A message of an entity with its content fields."""
    head = (
        f"From: {sender}\r\nTo: clerk@saltmere.example\r\nSubject: {subject}\r\n{more}"
        f"Date: Mon, 09 Mar 2026 10:15:00 +0000\r\nMessage-ID: <{subject.replace(' ', '.')}@saltmere.example>\r\n"
    )
    lines = (
        content if content.lower().startswith((b"mime-version", b"content-")) else b"MIME-Version: 1.0\r\n" + content
    )
    return head.encode() + lines


def main(folder: str) -> None:
    """Make in a folder the keys of an office, and in `mail` a letter that is signed and encrypted."""
    keys = Keys(Path(folder).absolute())
    text = (
        "Content-Type: text/plain; charset=utf-8\r\n\r\nDear colleagues,\r\n\r\nberth 7 at the east quay is let to the "
        "Pelican from 1 April,\r\nfor 14,220 crowns a quarter. The contract comes by post.\r\n\r\nInes Carvalho\r\n"
        "Port of Saltmere, berths\r\n"
    )
    letter = mail(keys.encrypted(keys.signed(text), "clerk", "-aes-256-gcm"), "Berth 7 is let to the Pelican")
    (keys.home / "mail").mkdir()
    (keys.home / "mail" / "berth.eml").write_bytes(letter)


if __name__ == "__main__":
    main(sys.argv[1])
