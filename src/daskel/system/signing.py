"""The site's own key, for machines with Secure Boot that trust it: made, read, and described."""

from __future__ import annotations

import datetime
import os
import tempfile
from collections.abc import Collection
from dataclasses import dataclass
from ipaddress import IPv4Address
from pathlib import Path
from typing import TYPE_CHECKING

from daskel.system.requirements import MissingRequirementError

if TYPE_CHECKING:  # few sites have a key, and the library takes a tenth of every command
    from cryptography import x509
    from cryptography.hazmat.primitives.asymmetric import rsa

    from daskel.core.efi.signature import Signer

_BITS = 2048  # what all firmware and shim take
_YEARS = 20  # it is not looked at by firmware, which has no clock that it trusts
CERTIFICATE, KEY, DER = "site.pem", "site.key", "site.cer"
SERVER_CERTIFICATE, SERVER_KEY = "https.pem", "https.key"
_NAME_AGAIN = "name others with signing = { ... } in [site], or make one: daskel keys make"


@dataclass(frozen=True, slots=True)
class KeyFacts:
    """What people compare: the name in the certificate, and its SHA-256."""

    name: str
    fingerprint: str
    until: datetime.date


def make_key(folder: Path, name: str, now: datetime.datetime) -> None:
    """A key and its certificate into a folder; nothing that is there is replaced. Raises
    FileExistsError and OSError."""
    from cryptography import x509
    from cryptography.hazmat.primitives import hashes
    from cryptography.hazmat.primitives.serialization import Encoding

    folder.mkdir(parents=True, exist_ok=True)
    _nothing_there(folder, CERTIFICATE, KEY, DER)
    key, whose = _new_key(), _named(name)
    made = (
        _certificate(key, whose, whose, now)
        .not_valid_after(now.replace(year=now.year + _YEARS, day=min(now.day, 28)))
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), critical=False)
        .sign(key, hashes.SHA256())
    )
    _write(folder / KEY, _private(key), 0o600)
    _write(folder / CERTIFICATE, made.public_bytes(Encoding.PEM), 0o644)
    _write(folder / DER, made.public_bytes(Encoding.DER), 0o644)


def make_server_certificate(
    folder: Path, certificate: Path, key: Path, addresses: Collection[IPv4Address],
    now: datetime.datetime,
) -> None:  # fmt: skip
    """A key and a certificate for these addresses, signed by the site's. Raises FileExistsError,
    OSError and MissingRequirementError."""
    from cryptography import x509
    from cryptography.hazmat.primitives import hashes
    from cryptography.hazmat.primitives.serialization import Encoding

    issuer, signing = read_certificate(certificate), _read_key(certificate, key)
    _nothing_there(folder, SERVER_CERTIFICATE, SERVER_KEY)
    own, first = _new_key(), str(next(iter(addresses)))
    names = x509.SubjectAlternativeName([x509.IPAddress(one) for one in addresses])
    made = (
        _certificate(own, _named(first), issuer.subject, now)
        .not_valid_after(issuer.not_valid_after_utc)
        .add_extension(names, critical=False)
        .sign(signing, hashes.SHA256())
    )
    both = made.public_bytes(Encoding.PEM) + issuer.public_bytes(Encoding.PEM)
    _write(folder / SERVER_KEY, _private(own), 0o600)
    _write(folder / SERVER_CERTIFICATE, both, 0o644)


def _nothing_there(folder: Path, *files: str) -> None:
    for file in files:
        if (folder / file).exists():
            raise FileExistsError(0, "it is there already", str(folder / file))


def _new_key() -> rsa.RSAPrivateKey:
    from cryptography.hazmat.primitives.asymmetric import rsa

    return rsa.generate_private_key(65537, _BITS)


def _private(key: rsa.RSAPrivateKey) -> bytes:
    """As it lies on the disk."""
    from cryptography.hazmat.primitives.serialization import (
        Encoding,
        NoEncryption,
        PrivateFormat,
    )

    return key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())


def _named(name: str) -> x509.Name:
    from cryptography import x509

    return x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, name)])


def _certificate(
    key: rsa.RSAPrivateKey, whose: x509.Name, issuer: x509.Name, now: datetime.datetime
) -> x509.CertificateBuilder:
    """What all have in common; clocks of clients may be slow."""
    from cryptography import x509

    return (
        x509.CertificateBuilder()
        .subject_name(whose)
        .issuer_name(issuer)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - datetime.timedelta(days=1))
    )


def _write(path: Path, data: bytes, mode: int) -> None:
    """With its rights from the beginning."""
    with tempfile.NamedTemporaryFile(dir=path.parent, delete=False) as part:
        os.fchmod(part.fileno(), mode)
        part.write(data)
        part.flush()
        os.fsync(part.fileno())
    Path(part.name).rename(path)


def read_certificate(path: Path) -> x509.Certificate:
    """Raises MissingRequirementError."""
    from cryptography import x509

    try:
        return x509.load_pem_x509_certificate(path.read_bytes())
    except OSError as error:
        raise MissingRequirementError(
            f"{path} cannot be read ({error.strerror})", _NAME_AGAIN
        ) from None
    except ValueError:
        raise MissingRequirementError(f"{path} is not a certificate (PEM)", _NAME_AGAIN) from None


def for_machines(certificate: Path) -> Path:
    """The certificate in the form that firmware reads (DER), beside the one in PEM form; made where
    it is missing. Raises MissingRequirementError."""
    from cryptography.hazmat.primitives.serialization import Encoding

    path, found = certificate.with_suffix(".cer"), read_certificate(certificate)
    try:
        if not path.exists():
            _write(path, found.public_bytes(Encoding.DER), 0o644)
    except OSError as error:
        problem = f"{path} cannot be written ({error.strerror})"
        raise MissingRequirementError(problem, "run this as root") from None
    return path


def facts(certificate: x509.Certificate) -> KeyFacts:
    """Of the site's certificate."""
    from cryptography import x509
    from cryptography.hazmat.primitives import hashes

    names = certificate.subject.get_attributes_for_oid(x509.NameOID.COMMON_NAME)
    name = str(names[0].value) if names else certificate.subject.rfc4514_string()
    digest = certificate.fingerprint(hashes.SHA256()).hex(":").upper()
    return KeyFacts(name, digest, certificate.not_valid_after_utc.date())


def load_signer(certificate: Path, key: Path) -> Signer:
    """Raises MissingRequirementError when one of the files cannot be used."""
    from cryptography.hazmat.primitives import hashes
    from cryptography.hazmat.primitives.asymmetric import padding

    from daskel.core.efi.signature import Signer

    private = _read_key(certificate, key)

    def sign(data: bytes) -> bytes:
        return private.sign(data, padding.PKCS1v15(), hashes.SHA256())

    return Signer(read_certificate(certificate), sign)


def _read_key(certificate: Path, key: Path) -> rsa.RSAPrivateKey:
    """That of the certificate. Raises MissingRequirementError."""
    from cryptography.hazmat.primitives.asymmetric.rsa import RSAPrivateKey
    from cryptography.hazmat.primitives.serialization import load_pem_private_key

    found = read_certificate(certificate)
    try:
        private = load_pem_private_key(key.read_bytes(), None)
    except OSError as error:
        raise MissingRequirementError(
            f"{key} cannot be read ({error.strerror})", _NAME_AGAIN
        ) from None
    except (ValueError, TypeError):
        problem = f"{key} is not a key (PEM) without a password"
        raise MissingRequirementError(problem, _NAME_AGAIN) from None
    if not isinstance(private, RSAPrivateKey):
        problem = f"{key} is not an RSA key, the only kind that firmware and shim accept"
        raise MissingRequirementError(problem, _NAME_AGAIN)
    if private.public_key() != found.public_key():
        raise MissingRequirementError(f"{key} is not the key of {certificate}", _NAME_AGAIN)
    return private
