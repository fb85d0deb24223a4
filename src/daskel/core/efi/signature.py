"""Signatures of EFI programs: PKCS #7 signed data over the hash of an image (RFC 2315; Windows
Authenticode Portable Executable Signature Format, 2008), SHA-256 with RSA."""

from __future__ import annotations

import hashlib
import struct
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding

from daskel.core.efi.der import (
    BITS,
    INTEGER,
    NULL,
    OCTETS,
    OID,
    SEQUENCE,
    SET,
    der,
    inside,
    integer,
    oid,
    tagged,
    values,
)
from daskel.core.efi.pe import HEADS, Program, hashed, parse
from daskel.core.reader import MalformedError

Sign = Callable[[bytes], bytes]  # RSA with SHA-256 and PKCS #1 v1.5, of a message
Read = Callable[[int, int], bytes]  # at an offset of a file, a number of bytes

MOST_CERTIFICATES = 1 << 20  # bytes of a certificate table
_WIN_CERTIFICATE = struct.Struct("<IHH")
_REVISION, _PKCS = 0x200, 2
_SIGNED_DATA, _SHA256 = oid("1.2.840.113549.1.7.2"), oid("2.16.840.1.101.3.4.2.1")
_INDIRECT, _IMAGE_DATA = oid("1.3.6.1.4.1.311.2.1.4"), oid("1.3.6.1.4.1.311.2.1.15")
_CONTENT_TYPE, _DIGEST = oid("1.2.840.113549.1.9.3"), oid("1.2.840.113549.1.9.4")
_RSA = oid("1.2.840.113549.1.1.1")
_NOTHING = der(NULL)
_OBSOLETE = "<<<Obsolete>>>".encode("utf-16-be")
_PIECE = 1 << 20  # bytes that are read at once


@dataclass(frozen=True, slots=True)
class Signer:
    """Signs images; `sign` has the key of the certificate."""

    certificate: x509.Certificate
    sign: Sign

    def table(self, digest: bytes) -> bytes:
        """The certificate table of an image with this SHA-256; its length is the same for all."""
        found = self._signed(digest)
        size = len(found) + -len(found) % 8
        head = _WIN_CERTIFICATE.pack(_WIN_CERTIFICATE.size + size, _REVISION, _PKCS)
        return head + found.ljust(size, b"\0")

    def _signed(self, digest: bytes) -> bytes:
        algorithm = der(SEQUENCE, _SHA256, _NOTHING)
        link = der(tagged(0), der(tagged(2), der(0x80, _OBSOLETE)))
        image = der(SEQUENCE, _IMAGE_DATA, der(SEQUENCE, der(BITS, b"\0"), link))
        about = image + der(SEQUENCE, algorithm, der(OCTETS, digest))
        attributes = sorted([
            der(SEQUENCE, _CONTENT_TYPE, der(SET, _INDIRECT)),
            der(SEQUENCE, _DIGEST, der(SET, der(OCTETS, hashlib.sha256(about).digest()))),
        ])  # fmt: skip
        own = self.certificate
        issuer = der(SEQUENCE, own.issuer.public_bytes(), integer(own.serial_number))
        signer = der(
            SEQUENCE, integer(1), issuer, algorithm, der(tagged(0), *attributes),
            der(SEQUENCE, _RSA, _NOTHING), der(OCTETS, self.sign(der(SET, *attributes))),
        )  # fmt: skip
        content = der(SEQUENCE, _INDIRECT, der(tagged(0), der(SEQUENCE, about)))
        chain = der(tagged(0), own.public_bytes(Encoding.DER))
        data = der(SEQUENCE, integer(1), der(SET, algorithm), content, chain, der(SET, signer))
        return der(SEQUENCE, _SIGNED_DATA, der(tagged(0), data))


def signed(image: bytes, signer: Signer) -> bytes:
    """The image with this signature, instead of those that it had. Raises MalformedError."""
    program = parse(image[:HEADS])
    plain = bytearray(image[: program.certificates[0]] if program.certificates[1] else image)
    plain += bytes(-len(plain) % 8)
    struct.pack_into("<2I", plain, program.security, 0, 0)
    struct.pack_into("<I", plain, program.checksum, 0)
    table = signer.table(digest_of(bytes(plain)))
    struct.pack_into("<2I", plain, program.security, len(plain), len(table))
    return bytes(plain) + table


def digest_of(image: bytes) -> bytes:
    """The SHA-256 that a signature of the image is about. Raises MalformedError."""
    return _digest(parse(image[:HEADS]), len(image), lambda at, count: image[at : at + count])


def _digest(program: Program, size: int, read: Read) -> bytes:
    found = hashlib.sha256()
    for at, length in hashed(program, size):
        for begin in range(at, at + length, _PIECE):
            found.update(read(begin, min(_PIECE, at + length - begin)))
    return found.digest()


@dataclass(frozen=True, slots=True)
class Found:
    """What firmware and shim look at in an EFI program. `signers`: the names of certificates that
    say so; `damaged`: none of the signatures is about what is in the file; `sbat`: it says which
    versions of what it is made of, without which shim takes nothing for a second stage."""

    signers: tuple[str, ...] = ()
    damaged: bool = False
    sbat: bool = False


def look(size: int, read: Read) -> Found:
    """Who signed an EFI program of `size` bytes. Nothing is verified but that a signature is about
    this image: whom firmware trusts is not known here. Raises MalformedError."""
    program = parse(read(0, min(size, HEADS)))
    sbat = program.section(".sbat") is not None
    at, length = program.certificates
    if not length:
        return Found(sbat=sbat)
    if length > MOST_CERTIFICATES or at + length > size:
        raise MalformedError(f"EFI program: a certificate table of {length} bytes at {at}")
    signatures = [_read(one) for one in _tables(read(at, length))]
    digest = _digest(program, size, read)
    names = tuple(name for about, name in signatures if about == digest)
    if names or not signatures:
        return Found(names, sbat=sbat)
    return Found(tuple(name for _, name in signatures), damaged=True, sbat=sbat)


def _tables(data: bytes) -> Sequence[bytes]:
    """The signatures of a certificate table, each padded to eight bytes."""
    found, at = [], 0
    while at + _WIN_CERTIFICATE.size <= len(data):
        length, _, kind = _WIN_CERTIFICATE.unpack_from(data, at)
        if length < _WIN_CERTIFICATE.size or at + length > len(data):
            raise MalformedError(f"EFI program: a certificate of {length} bytes")
        if kind == _PKCS:
            found.append(data[at + _WIN_CERTIFICATE.size : at + length])
        at += length + -length % 8
    return found


def _read(data: bytes) -> tuple[bytes, str]:
    """The hash that a signature is about, and the name of its signer."""
    (whole,) = inside(data, SEQUENCE)
    kind, content = inside(whole, OID, tagged(0))
    if der(OID, kind) != _SIGNED_DATA:
        raise MalformedError("signature: it is not signed data")
    (data,) = inside(content, SEQUENCE)
    parts = list(values(data))[2:]  # behind its version and the algorithms
    about = parts[0][1] if parts else b""
    _, inner = inside(about, OID, tagged(0))
    (inner,) = inside(inner, SEQUENCE)
    _, info = inside(inner, SEQUENCE, SEQUENCE)
    _, digest = inside(info, SEQUENCE, OCTETS)
    chain = next((part[1] for part in parts if part[0] == tagged(0)), b"")
    signers = parts[-1][1] if parts else b""
    (signer,) = inside(signers, SEQUENCE)
    _, issuer = inside(signer, INTEGER, SEQUENCE)
    _, serial = inside(issuer, SEQUENCE, INTEGER)
    return digest, _name(chain, int.from_bytes(serial, "big"))


def _name(chain: bytes, serial: int) -> str:
    for _, _, whole in values(chain):
        try:
            certificate = x509.load_der_x509_certificate(whole)
            if certificate.serial_number == serial:
                names = certificate.subject.get_attributes_for_oid(x509.NameOID.COMMON_NAME)
                return str(names[0].value) if names else certificate.subject.rfc4514_string()
        except ValueError:
            continue
    return f"serial number {serial:x}"
