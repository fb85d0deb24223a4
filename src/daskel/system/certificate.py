"""The administrator's certificate, for firmware that boots over HTTPS."""

from __future__ import annotations

import ssl
from pathlib import Path

from daskel.system.requirements import MissingRequirementError


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
    return context
