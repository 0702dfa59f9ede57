"""The Lookout's own certificate, where the house gives none: made once, for this machine's names and addresses."""

from __future__ import annotations

import contextlib
import datetime
import ipaddress
import os
import socket
from pathlib import Path

from ..core.errors import BadInput
from .keys import lookout_folder

DAYS = 397
"""A browser refuses one that holds much longer"""


def names() -> list[str]:
    """This machine's names and addresses, as others may call it."""
    made = ["localhost", "127.0.0.1", socket.gethostname(), *addresses()]
    return list(dict.fromkeys(n for n in made if n))


def addresses() -> list[str]:
    """Addresses of this machine in its house."""
    found = []
    with contextlib.suppress(OSError):
        found = [str(a[4][0]) for a in socket.getaddrinfo(socket.gethostname(), None, socket.AF_INET)]
    with contextlib.suppress(OSError), socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as asked:
        asked.connect(("192.0.2.1", 9))  # nothing is sent: it only tells which way would be taken
        found.append(asked.getsockname()[0])
    return [a for a in dict.fromkeys(found) if not a.startswith("127.")]


def own_certificate() -> tuple[Path, Path]:
    """Certificate and key of our own, made where there are none or they run out; the key is its user's alone."""
    from cryptography import x509

    folder = lookout_folder()
    place, key_place = folder / "lookout.crt", folder / "lookout.key"
    soon = datetime.datetime.now(datetime.UTC) + datetime.timedelta(days=14)
    if place.exists() and key_place.exists():
        with contextlib.suppress(ValueError):
            held = x509.load_pem_x509_certificate(place.read_bytes())
            told = held.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
            known = {str(n.value) for n in told}
            if held.not_valid_after_utc > soon and set(names()) <= known:
                return place, key_place
    _make(place, key_place)
    return place, key_place


def _make(place: Path, key_place: Path) -> None:
    from cryptography import x509
    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.hazmat.primitives.asymmetric import ec
    from cryptography.x509.oid import NameOID

    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, f"Lucid Anvil Lookout {socket.gethostname()}"[:64])])
    called: list[x509.GeneralName] = []
    for one in names():
        try:
            called.append(x509.IPAddress(ipaddress.ip_address(one)))
        except ValueError:
            called.append(x509.DNSName(one))
    now = datetime.datetime.now(datetime.UTC)
    made = (
        x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
        .serial_number(x509.random_serial_number()).not_valid_before(now - datetime.timedelta(hours=1))
        .not_valid_after(now + datetime.timedelta(days=DAYS)).add_extension(x509.SubjectAlternativeName(called), False)
        .add_extension(x509.BasicConstraints(ca=False, path_length=None), True).sign(key, hashes.SHA256())
    )  # fmt: skip
    pem = key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    key_place.unlink(missing_ok=True)
    handle = os.open(key_place, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(handle, "wb") as file:
        file.write(pem)
    place.write_bytes(made.public_bytes(serialization.Encoding.PEM))


def fingerprint(place: Path) -> str:
    """SHA-256 of a certificate, as browsers show it. Raises BadInput where it is none."""
    from cryptography import x509
    from cryptography.hazmat.primitives import hashes

    try:
        held = x509.load_pem_x509_certificate(place.read_bytes())
    except (OSError, ValueError):
        raise BadInput(f"{place}: this is no certificate (PEM): name the right file.") from None
    return ":".join(f"{b:02X}" for b in held.fingerprint(hashes.SHA256()))
