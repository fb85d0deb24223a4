"""The administrator's certificate, for firmware that boots over HTTPS, and what firmware makes of
it: measured with Debian's UEFI firmware (2022.11), which knows TLS 1.2 with DHE or RSA alone."""

from __future__ import annotations

import ipaddress
import ssl
from collections.abc import Collection, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from daskel.system.requirements import MissingRequirementError

if TYPE_CHECKING:  # few sites have one, and the library takes a tenth of every command
    from cryptography import x509

_GROUP = Path(__file__).with_name("ffdhe2048.pem")  # RFC 7919, appendix A.1
_SHORTEST = 2048  # bits


def server_side(certificate: Path, key: Path) -> ssl.SSLContext:
    """Raises MissingRequirementError when one of the files cannot be used."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    try:
        context.load_cert_chain(certificate, key, password=lambda: "")
    except ssl.SSLError as error:
        problem = (
            f"{certificate} and {key} are not a certificate (PEM) and its key ({error.reason})"
        )
        raise MissingRequirementError(
            problem, "name others with https = { ... } in [site]"
        ) from None
    except OSError as error:
        both = f"{certificate} or {key} cannot be read ({error.strerror})"
        raise MissingRequirementError(both, "name others with https = { ... } in [site]") from None
    context.load_dh_params(str(_GROUP))  # that firmware has no elliptic curves
    return context


def refused_by_firmware(certificate: Path, hosts: Collection[str]) -> Iterator[tuple[str, str]]:
    """Why UEFI firmware would not boot from the `hosts` (addresses or names) of URLs with this
    certificate, and what to do. Raises OSError, and ValueError for what is not a certificate."""
    from cryptography import x509
    from cryptography.hazmat.primitives.asymmetric.rsa import RSAPublicKey

    found = x509.load_pem_x509_certificate(certificate.read_bytes())
    key = found.public_key()
    if not isinstance(key, RSAPublicKey):
        yield "its key is not an RSA key", "make one with an RSA key of 2048 bits or more"
    elif key.key_size < _SHORTEST:
        remedy = f"make one with a key of {_SHORTEST} bits or more"
        yield f"its RSA key has {key.key_size} bits", remedy
    names = _names(found)
    for host in sorted(set(hosts) - names):
        kind = "IP" if _is_address(host) else "DNS"
        yield (
            f"{host} is not among its subject alternative names",
            f"make one with subjectAltName = {kind}:{host} (a common name is not enough)",
        )


def _names(certificate: x509.Certificate) -> set[str]:
    from cryptography import x509

    try:
        extension = certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName)
    except x509.ExtensionNotFound:
        return set()
    addresses = extension.value.get_values_for_type(x509.IPAddress)
    return {*map(str, addresses), *extension.value.get_values_for_type(x509.DNSName)}


def _is_address(host: str) -> bool:
    try:
        ipaddress.ip_address(host)
    except ValueError:
        return False
    return True
