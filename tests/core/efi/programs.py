"""Small EFI programs, and a key that signs."""

from __future__ import annotations

import datetime
import struct
from functools import cache

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import padding, rsa

from daskel.core.efi.signature import Signer

HEADERS, ALIGNED = 0x600, 0x200
SBAT = b"sbat,1,SBAT Version\n"


def program(
    *sections: tuple[bytes, bytes], behind: bytes = b"", machine: int = 0x8664, gap: int = 0
) -> bytes:
    """An EFI program of 64 bits; `behind` follows its sections, with `gap` bytes between them."""
    head = bytearray(HEADERS)
    head[:2], head[0x3C] = b"MZ", 0x40
    struct.pack_into("<4s2H", head, 0x40, b"PE\0\0", machine, len(sections))
    struct.pack_into("<H", head, 0x54, 240)  # the optional header
    struct.pack_into("<H", head, 0x58, 0x20B)
    struct.pack_into("<2I", head, 0x58 + 32, 0x1000, ALIGNED)
    struct.pack_into("<2I", head, 0x58 + 56, 0x10000, HEADERS)
    struct.pack_into("<I", head, 0x58 + 108, 16)  # directories
    body = b""
    for number, (name, data) in enumerate(sections):
        stored = len(data) + -len(data) % ALIGNED
        at = 0x58 + 240 + 40 * number
        body += b"?" * (gap if number else 0)
        where = HEADERS + len(body)
        struct.pack_into("<8s4I", head, at, name, len(data), 0x1000 * (number + 1), stored, where)
        body += data.ljust(stored, b"\0")
    return bytes(head) + body + behind


@cache
def signer(name: str = "Skerry boot") -> Signer:
    key = rsa.generate_private_key(65537, 2048)
    whose = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, name)])
    begin = datetime.datetime(2026, 11, 1, tzinfo=datetime.UTC)
    made = (
        x509.CertificateBuilder()
        .subject_name(whose)
        .issuer_name(whose)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(begin)
        .not_valid_after(begin.replace(year=2046))
        .sign(key, hashes.SHA256())
    )
    return Signer(made, lambda data: key.sign(data, padding.PKCS1v15(), hashes.SHA256()))
