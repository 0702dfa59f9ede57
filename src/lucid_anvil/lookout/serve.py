"""The Lookout's own process: begun, found, ended; off until somebody turns it on."""

from __future__ import annotations

import argparse
import asyncio
import contextlib
import json
import os
import signal
import socket
import ssl
import subprocess
import sys
import threading
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ..core.errors import BadInput
from ..engine.launch import alive
from ..engine.notes import put_note
from .certificate import addresses, fingerprint, names, own_certificate
from .keys import keys, log, lookout_folder
from .page import Lookout
from .warning import Warner
from .watching import Watcher

PORT = 8467
OPENS_IN = 30.0


@dataclass(frozen=True)
class Standing:
    """A Lookout that is on."""

    pid: int
    port: int
    host: str
    certificate: str

    def places(self) -> list[str]:
        """Where a browser finds it, the house's addresses first."""
        own = addresses() if self.host in ("0.0.0.0", "") else []
        return [f"https://{a}:{self.port}/" for a in [*own, socket.gethostname(), "127.0.0.1"]]

    def link(self) -> str:
        """The first of them with the word to look. It stands behind the '#', which no browser sends or logs."""
        return f"{self.places()[0]}#{keys().look}"


def note() -> Path:
    return lookout_folder() / "standing.json"


def standing() -> Standing | None:
    """The Lookout that is on, if any."""
    try:
        held = json.loads(note().read_text(encoding="utf-8"))
        found = Standing(int(held["pid"]), int(held["port"]), str(held["host"]), str(held["certificate"]))
    except (OSError, ValueError, KeyError, TypeError):
        return None
    return found if alive(found.pid) else None


def start(port: int = PORT, host: str = "0.0.0.0", certificate: str = "", key: str = "") -> Standing:
    """Turn it on, in a process that outlives this one. Raises BadInput where it can't be."""
    found = standing()
    if found is not None:
        raise BadInput(f"The Lookout is on already: {found.places()[0]}.")
    if bool(certificate) != bool(key):
        raise BadInput("A certificate needs its key, and a key its certificate: name both files, or neither.")
    if certificate:
        fingerprint(Path(certificate))
    place, key_place = (Path(certificate), Path(key)) if certificate else own_certificate()
    try:
        ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER).load_cert_chain(place, key_place)
    except (OSError, ssl.SSLError) as problem:
        raise BadInput(f"{place}, {key_place}: they do not belong together ({problem}).") from None
    keys()
    note().unlink(missing_ok=True)
    log_place = lookout_folder() / "errors.log"
    with log_place.open("ab") as errors:
        process = subprocess.Popen(
            [sys.executable, "-m", "lucid_anvil.lookout.serve", "--port", str(port), "--host", host, "--certificate",
             str(place.resolve()), "--key", str(key_place.resolve())],
            start_new_session=True, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=errors,
        )  # fmt: skip
    until = time.monotonic() + OPENS_IN
    while time.monotonic() < until and process.poll() is None:
        found = standing()
        if found is not None:
            return found
        time.sleep(0.05)
    said = log_place.read_text(encoding="utf-8", errors="replace").strip().splitlines() if log_place.exists() else []
    raise BadInput(f"The Lookout did not open: {said[-1] if said else 'it ended at once'}.")


def stop() -> bool:
    """Turn it off. Whether it was on."""
    found = standing()
    if found is None:
        return False
    with contextlib.suppress(OSError):
        os.kill(found.pid, signal.SIGTERM)
    until = time.monotonic() + 10
    while time.monotonic() < until and alive(found.pid):
        time.sleep(0.05)
    note().unlink(missing_ok=True)
    return True


def main() -> None:
    """The process. Its words are in a file of its user's, read anew when they change."""
    import uvicorn

    parser = argparse.ArgumentParser()
    parser.add_argument("--port", type=int, required=True)
    parser.add_argument("--host", required=True)
    parser.add_argument("--certificate", required=True)
    parser.add_argument("--key", required=True)
    given = parser.parse_args()
    with contextlib.suppress(OSError):
        os.nice(10)
    listening = socket.socket()
    listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listening.bind((given.host, given.port))
    except OSError as problem:
        raise SystemExit(f"port {given.port} can't be had ({problem.strerror})") from None
    port = listening.getsockname()[1]
    hosts = {f"{n}:{port}".lower() for n in names()} | ({n.lower() for n in names()} if port == 443 else set())
    watcher = Watcher(Warner().look)
    threading.Thread(target=watcher.go_on, daemon=True).start()
    held: dict[str, Any] = {"stamp": None, "keys": keys()}

    def now() -> Any:
        place = lookout_folder() / "keys.json"
        stamp = place.stat().st_mtime_ns if place.exists() else None
        if stamp != held["stamp"]:
            held.update(stamp=stamp, keys=keys())
        return held["keys"]

    config = uvicorn.Config(
        Lookout(watcher, now, hosts), log_level="critical", lifespan="off", access_log=False, server_header=False,
        ssl_certfile=given.certificate, ssl_keyfile=given.key, timeout_keep_alive=10, limit_concurrency=200,
        h11_max_incomplete_event_size=16384, proxy_headers=False, http="h11",
    )  # fmt: skip
    server = uvicorn.Server(config)

    async def serve() -> None:
        task = asyncio.create_task(server.serve(sockets=[listening]))
        while not server.started and not task.done():
            await asyncio.sleep(0.01)
        put_note(note(), {"pid": os.getpid(), "port": port, "host": given.host, "certificate": given.certificate})
        log(f"on, port {port}")
        await task

    asyncio.run(serve())
    log("off")


if __name__ == "__main__":
    main()
