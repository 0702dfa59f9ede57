"""A real browser, headless, driven over its own debugging protocol."""

from __future__ import annotations

import base64
import json
import shutil
import subprocess
import time
from pathlib import Path
from typing import Any

import httpx
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from websockets.sync.client import connect

CHROMIUM = shutil.which("chromium")


class Browser:
    """A headless browser, over its own debugging protocol."""

    def __init__(self, folder: Path, certificate: Path) -> None:
        held = x509.load_pem_x509_certificate(certificate.read_bytes())
        key = held.public_key().public_bytes(serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo)
        digest = hashes.Hash(hashes.SHA256())
        digest.update(key)
        trusted = base64.b64encode(digest.finalize()).decode()
        assert CHROMIUM is not None
        self.process = subprocess.Popen(
            [CHROMIUM, "--headless", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking",
             "--disable-component-update", "--disable-sync", "--disable-quic", "--remote-debugging-port=0",
             f"--ignore-certificate-errors-spki-list={trusted}", f"--user-data-dir={folder}", "about:blank"],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        place = folder / "DevToolsActivePort"
        end = time.monotonic() + 60
        while not (place.exists() and "\n" in place.read_text()):
            assert time.monotonic() < end and self.process.poll() is None, "the browser did not open"
            time.sleep(0.1)
        port = place.read_text().splitlines()[0]
        pages = httpx.get(f"http://127.0.0.1:{port}/json", trust_env=False).json()
        url = next(p["webSocketDebuggerUrl"] for p in pages if p["type"] == "page")
        self.line = connect(url, max_size=50_000_000, compression=None, proxy=None)
        self.count = 0

    def do(self, method: str, **params: Any) -> dict[str, Any]:
        self.count += 1
        self.line.send(json.dumps({"id": self.count, "method": method, "params": params}))
        while True:
            said = json.loads(self.line.recv(timeout=30))
            if said.get("id") == self.count:
                assert "error" not in said, said
                return dict(said["result"])

    def see(self, script: str) -> Any:
        made = self.do("Runtime.evaluate", expression=script, awaitPromise=True, returnByValue=True)
        assert "exceptionDetails" not in made, made
        return made["result"].get("value")

    def shot(self, place: Path, wide: int, high: int, ratio: int = 1) -> None:
        self.do("Emulation.setDeviceMetricsOverride", width=wide, height=high, deviceScaleFactor=ratio, mobile=wide < 600)
        time.sleep(1.5)
        place.write_bytes(base64.b64decode(self.do("Page.captureScreenshot", format="png")["data"]))

    def close(self) -> None:
        self.line.close()
        self.process.terminate()
        self.process.wait(20)
