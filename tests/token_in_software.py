"""Makes a token in software (SoftHSM) with the key and the certificates of a PKCS#12 file: TOKEN FILE PASSWORD. The PIN is
1234, the label of key and certificate is "seal"."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pkcs11
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat, pkcs12
from pkcs11 import Attribute, ObjectClass

LIBRARY = "/usr/lib/softhsm/libsofthsm2.so"


def main(token: str, file: str, password: str) -> None:
    private, certificate, more = pkcs12.load_key_and_certificates(Path(file).read_bytes(), password.encode())
    assert private is not None and certificate is not None
    key = Path(file).with_suffix(".p8")
    key.write_bytes(private.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()))
    run = ["softhsm2-util", "--init-token", "--free", "--label", token, "--pin", "1234", "--so-pin", "1234"]
    subprocess.run(run, check=True)
    run = ["softhsm2-util", "--import", str(key), "--token", token, "--label", "seal", "--id", "a1", "--pin", "1234"]
    subprocess.run(run, check=True)
    with pkcs11.lib(LIBRARY).get_token(token_label=token).open(rw=True, user_pin="1234") as session:
        for number, one in enumerate((certificate, *more)):
            session.create_object(
                {
                    Attribute.CLASS: ObjectClass.CERTIFICATE,
                    Attribute.CERTIFICATE_TYPE: pkcs11.CertificateType.X_509,
                    Attribute.TOKEN: True,
                    Attribute.LABEL: "root" if number else "seal",
                    Attribute.ID: bytes([number]) if number else b"\xa1",
                    Attribute.SUBJECT: one.subject.public_bytes(),
                    Attribute.VALUE: one.public_bytes(Encoding.DER),
                }
            )


if __name__ == "__main__":
    main(*sys.argv[1:])
