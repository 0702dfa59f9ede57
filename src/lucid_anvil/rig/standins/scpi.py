"""SCPI over TCP (SCPI-1999, IEEE 488.2): what every stand-in instrument shares. True servers: any client may talk.

Messages end in a line feed. Commands are parsed by their short or long form; errors go to a queue that
`SYSTem:ERRor?` empties; `*OPC?` answers when what came before is done; long data come as definite-length blocks.
"""

from __future__ import annotations

import contextlib
import re
import socketserver
import threading
import time
from collections import deque
from collections.abc import Callable, Mapping

import numpy as np

from ...core.signal.sinefit import Floats

NO_ERROR = '0,"No error"'
UNKNOWN, MISSING, TYPE, RANGE, STATE = -113, -109, -104, -222, -221
WORDS = {
    UNKNOWN: "Undefined header", MISSING: "Missing parameter", TYPE: "Data type error",
    RANGE: "Data out of range", STATE: "Settings conflict",
}  # fmt: skip
STATUS_BIT = {-1: 32, -2: 16}
"""Bits of the event status register by the hundreds of an error: command error, execution error."""
Answer = str | bytes | None


class Refused(Exception):
    """A command that is not carried out, with its number in the error queue."""

    def __init__(self, number: int) -> None:
        super().__init__(WORDS[number])
        self.number = number


def pattern(header: str) -> re.Pattern[str]:
    """`[SOURce:]VOLTage?` as an expression that takes each word in short or long form, in any case; a word in brackets
    may be left out."""
    made = ""
    for option, word in re.findall(r"\[([^\]]+):\]|([^:\[\]?]+)", header):
        name = option or word
        short = "".join(c for c in name if not c.islower())
        either = f"(?:{re.escape(name)}|{re.escape(short)})"
        made += f"(?:{either}:)?" if option else f"{either}:"
    return re.compile(":?" + made.removesuffix(":") + (r"\?" if header.endswith("?") else ""), re.IGNORECASE)


def number(text: str, low: float, high: float) -> float:
    """A numeric parameter between its limits."""
    try:
        value = float(text)
    except ValueError:
        raise Refused(TYPE) from None
    if not low <= value <= high:
        raise Refused(RANGE)
    return value


def onoff(text: str) -> bool:
    """A Boolean parameter."""
    if text.upper() not in ("ON", "OFF", "1", "0"):
        raise Refused(TYPE)
    return text.upper() in ("ON", "1")


def block(data: Floats) -> bytes:
    """Samples as a definite-length block of little-endian 32-bit floats (IEEE 488.2, 8.7.9)."""
    held = np.ascontiguousarray(data, "<f4").tobytes()
    size = str(len(held))
    return f"#{len(size)}{size}".encode() + held


class Scpi:
    """One instrument: its commands, error queue and status."""

    identity = "Lucid Anvil,stand-in,0,1"
    commands: Mapping[str, str] = {}
    """Header to the name of the method that serves it; methods take the parameters' texts."""

    def __init__(self) -> None:
        self.errors: deque[int] = deque(maxlen=20)
        self.events = 128
        """Event status register; the power was switched on."""
        own = {"*IDN?": "idn", "*RST": "reset", "*CLS": "clear", "*OPC": "complete", "*OPC?": "opc", "*ESR?": "esr",
               "*STB?": "stb", "*WAI": "wait", "SYSTem:ERRor?": "error", "SYSTem:ERRor:NEXT?": "error"}  # fmt: skip
        self.known = [(pattern(h), name) for h, name in {**own, **self.commands}.items()]

    def handle(self, line: str) -> Answer:
        """Carry out one message, several commands parted by semicolons; what they answer."""
        answers: list[str | bytes] = []
        for one in filter(None, (part.strip() for part in line.split(";"))):
            header, _, rest = one.partition(" ")
            given = [p.strip() for p in rest.split(",")] if rest.strip() else []
            try:
                made = self._one(header, given)
            except Refused as refused:
                self.errors.append(refused.number)
                self.events |= STATUS_BIT.get(-(-refused.number // 100), 16)
                continue
            if made is not None:
                answers.append(made)
        if not answers:
            return None
        if len(answers) == 1:
            return answers[0]
        return ";".join(a if isinstance(a, str) else a.decode("latin-1") for a in answers)

    def _one(self, header: str, given: list[str]) -> Answer:
        for expression, name in self.known:
            if expression.fullmatch(header):
                serve: Callable[..., Answer] = getattr(self, name)
                try:
                    return serve(*given)
                except TypeError as wrong:
                    if "positional argument" in str(wrong):
                        raise Refused(MISSING) from None
                    raise
        raise Refused(UNKNOWN)

    # --- IEEE 488.2, clause 10 ---------------------------------------------------------------------------------

    def idn(self) -> str:
        return self.identity

    def reset(self) -> None:
        """Back to what it is when switched on."""

    def clear(self) -> None:
        self.errors.clear()
        self.events = 0

    def complete(self) -> None:
        self.events |= 1

    def opc(self) -> str:
        return "1"

    def wait(self) -> None:
        """Nothing overlaps here."""

    def esr(self) -> str:
        held, self.events = self.events, 0
        return str(held)

    def stb(self) -> str:
        return str((4 if self.errors else 0) | (32 if self.events else 0))

    def error(self) -> str:
        if not self.errors:
            return NO_ERROR
        first = self.errors.popleft()
        return f'{first},"{WORDS[first]}"'


class ScpiServer:
    """An instrument on a TCP port of this machine, until closed."""

    def __init__(self, instrument: Scpi, trouble: Callable[[], tuple[str, float] | None] = lambda: None,
                 port: int = 0) -> None:  # fmt: skip
        """`trouble` says what is wrong now: silent, late (by seconds) or garbage; `port` 0 takes a free one."""
        self.instrument = instrument

        class Handler(socketserver.StreamRequestHandler):
            def handle(self) -> None:
                with contextlib.suppress(OSError):
                    for raw in self.rfile:
                        line = raw.decode("latin-1").strip()
                        made = instrument.handle(line) if line else None
                        wrong = trouble()
                        if made is None or (wrong and wrong[0] == "silent"):
                            continue
                        if wrong and wrong[0] == "late":
                            time.sleep(wrong[1])
                        if wrong and wrong[0] == "garbage":
                            made = "\x7f?;#"
                        self.wfile.write((made if isinstance(made, bytes) else made.encode("latin-1")) + b"\n")
                        self.wfile.flush()

        class Server(socketserver.ThreadingTCPServer):
            daemon_threads = True
            allow_reuse_address = True

        self.server = Server(("127.0.0.1", port), Handler)
        self.port = int(self.server.server_address[1])
        threading.Thread(target=self.server.serve_forever, args=(0.05,), daemon=True).start()

    def close(self) -> None:
        self.server.shutdown()
        self.server.server_close()
