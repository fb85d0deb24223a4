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


def test_a_certificate_that_firmware_refuses(demo_folder: Path) -> None:
    """UEFI firmware knows neither elliptic curves nor common names for addresses."""
    with_certificate(demo_folder)
    done = daskel("check", cwd=demo_folder)
    assert "10.61.8.1 is not among its subject alternative names" in done.stdout
    key, names = "rsa:2048", "IP:10.61.8.1,IP:10.61.9.1,IP:10.61.10.1"
    curve = MAKE.replace(key, "ec -pkeyopt ec_paramgen_curve:P-256").replace("IP:127.61.8.1", names)
    subprocess.run(curve.split(), cwd=demo_folder, check=True, capture_output=True)
    done = daskel("check", cwd=demo_folder)
    assert "firmware refuses" in done.stdout and "not an RSA key" in done.stdout
    good = MAKE.replace("IP:127.61.8.1", names)
    subprocess.run(good.split(), cwd=demo_folder, check=True, capture_output=True)
    assert "firmware refuses" not in daskel("check", cwd=demo_folder).stdout


def test_as_firmware_that_knows_no_elliptic_curves(serve: Serve, demo_folder: Path) -> None:
    with_certificate(demo_folder)
    serving = serve(demo_folder)
    target = f"{serving.address()}:{serving.wire.ports.https}"
    words = ["openssl", "s_client", "-connect", target, "-tls1_2", "-cipher"]
    words += ["DHE-RSA-AES256-GCM-SHA384:DHE-RSA-AES128-SHA256", "-CAfile"]
    done = subprocess.run(
        [*words, "certificate.pem"], cwd=demo_folder, input=b"", capture_output=True, check=False
    )
    assert b"Verify return code: 0" in done.stdout and b"DHE-RSA" in done.stdout, done.stdout
    assert serving.stop() == 0


def test_a_certificate_that_is_none(demo_folder: Path) -> None:
    with_certificate(demo_folder)
    (demo_folder / "certificate.pem").write_text("no certificate")
    done = daskel("check", cwd=demo_folder)
    assert done.returncode == 0 and "not a certificate (PEM) and its key" in done.stdout, done
    (demo_folder / "certificate.pem").unlink()
    gone = daskel("serve", "--loopback", "61000", cwd=demo_folder)
    assert gone.returncode == 3 and "cannot be read" in gone.stderr, gone
