"""The same files over HTTPS, with the administrator's certificate."""

from __future__ import annotations

import subprocess
from pathlib import Path

from tests.conftest import PATIENCE, Serve, SiteText, daskel

MAKE = (
    "openssl req -x509 -newkey rsa:2048 -nodes -days 2 -subj /CN=boot.skerry.example "
    "-addext subjectAltName=IP:127.61.8.1 -keyout key.pem -out certificate.pem"
)


def with_certificate(folder: Path) -> None:
    subprocess.run(MAKE.split(), cwd=folder, check=True, capture_output=True)
    site = folder / "daskel.toml"
    said = '[site]\nhttps = { certificate = "certificate.pem", key = "key.pem" }'
    site.write_text(SiteText(site.read_text()).replace("[site]", said, 1))


def test_files_over_https(serve: Serve, demo_folder: Path) -> None:
    with_certificate(demo_folder)
    large = bytes(range(256)) * 8192
    (demo_folder / "files/large").write_bytes(large)
    serving = serve(demo_folder)
    url = f"https://{serving.address()}:{serving.wire.ports.https}"

    def curl(*words: str) -> bytes:
        command = ["curl", "-s", "--cacert", str(demo_folder / "certificate.pem"), *words]
        return subprocess.run(command, check=True, capture_output=True, timeout=PATIENCE).stdout

    assert curl(f"{url}/large") == large
    assert curl("-r", "1000-1999", f"{url}/large") == large[1000:2000]
    assert b"hostname=tide-01" in curl(f"{url}/loader/02:61:08:00:00:01.cfg")
    plain = url.replace("https", "http")
    assert subprocess.run(["curl", "-s", "-m", "5", plain], check=False).returncode != 0
    assert curl(f"{url}/large") == large, "it goes on"
    assert serving.wait_for("file-sent", path="large")["over"] == "http"
    assert serving.stop() == 0


def test_a_certificate_that_is_none(demo_folder: Path) -> None:
    with_certificate(demo_folder)
    (demo_folder / "certificate.pem").write_text("no certificate")
    done = daskel("check", cwd=demo_folder)
    assert done.returncode == 0 and "not a certificate (PEM) and its key" in done.stdout, done
    (demo_folder / "certificate.pem").unlink()
    gone = daskel("serve", "--loopback", "61000", cwd=demo_folder)
    assert gone.returncode == 3 and "cannot be read" in gone.stderr, gone
