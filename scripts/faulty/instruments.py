"""Instruments that lie: whatever they send, a number is the right one or there is one sentence."""

from __future__ import annotations

import contextlib
import socket
import threading
from functools import partial

import numpy as np

from lucid_anvil.rig.instruments import Instrument, Trouble

from .told import Job, Told

TRUE = 12.5
LIES: dict[str, bytes | None] = {
    "silent": None,
    "no number": b"overload\n",
    "not a number": b"NAN\n",
    "the standard's own not a number": b"9.91E37\n",
    "a unit behind it": b"12.5 V\n",
    "an empty line": b"\n",
    "a line that does not end": b"12",
    "two answers to one question": b"12.5\n99\n",
    "bytes that are no text": b"\xff\xfe12.5\n",
    "a line without end": b"1" * 200_000,
    "an answer in pieces": b"12.5\n",
    "a Python number that is none elsewhere": b"1_2.5\n",
}


class Liar:
    """Says who it is, tells the truth `honest` times, then lies."""

    def __init__(self, lie: str, honest: int) -> None:
        self.lie, self.honest = lie, honest
        self.server = socket.create_server(("127.0.0.1", 0))
        self.port = self.server.getsockname()[1]
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        asked = 0
        while True:
            try:
                peer, _ = self.server.accept()
            except OSError:
                return
            with peer, contextlib.suppress(OSError):
                file = peer.makefile("rb")
                for line in file:
                    if b"*IDN?" in line:
                        peer.sendall(b"Anvil,Liar,1,0\n")
                        continue
                    asked += 1
                    held = LIES[self.lie] if asked > self.honest else b"12.5\n"
                    if held is None:
                        continue
                    pieces = [held[k : k + 2] for k in range(0, len(held), 2)] if "pieces" in self.lie else [held]
                    for piece in pieces:
                        peer.sendall(piece)

    def close(self) -> None:
        self.server.close()


def jobs(times: int) -> list[Job]:
    """Each lie after so many honest answers as are drawn, so many times."""
    rng = np.random.default_rng(41)
    return [(f"instrument: {lie}", partial(listen, lie, int(rng.integers(0, 4)))) for lie in LIES for _ in range(times)]


def listen(lie: str, honest: int) -> Told:
    """Eight questions; each answer is the true one or a sentence."""
    liar = Liar(lie, honest)
    said: list[str] = []
    try:
        one = Instrument("supply", "127.0.0.1", liar.port, 0.2)
        for _ in range(8):
            try:
                value = one.number("MEAS:VOLT?")
            except Trouble as trouble:
                said.append(str(trouble))
                continue
            if value != TRUE:
                return Told(False, f"read {value:g}")
    finally:
        liar.close()
    lied = lie != "an answer in pieces"
    return Told(bool(said) == lied, said[0] if said else "the true value each time")
