"""SCPI over TCP (SCPI-1999, IEEE 488.2): what every stand-in instrument shares. True servers: any client may talk.

Messages end in a line feed. Commands are parsed by their short or long form; errors go to a queue that
`SYSTem:ERRor?` empties; `*OPC?` answers when what came before is done; long data come as definite-length blocks.
"""

from __future__ import annotations

import contextlib
import inspect
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
SURPLUS, SUFFIX, SYNTAX, MUCH, OVERFLOW = -108, -131, -102, -223, -350
WORDS = {
    UNKNOWN: "Undefined header", MISSING: "Missing parameter", TYPE: "Data type error",
    RANGE: "Data out of range", STATE: "Settings conflict", SURPLUS: "Parameter not allowed",
    SUFFIX: "Invalid suffix", SYNTAX: "Syntax error", MUCH: "Too much data", OVERFLOW: "Queue overflow",
}  # fmt: skip
STATUS_BIT = {-1: 32, -2: 16, -3: 8}
"""Bits of the event status register by the hundreds of an error: command, execution, device-dependent error."""
QUEUE = 20
"""Errors that the queue holds; the last one then says that there were more (SCPI-1999, 21.8.1)"""
LONGEST = 65536
"""bytes of one message"""
MULTIPLIERS = {"G": 1e9, "MA": 1e6, "K": 1e3, "": 1.0, "M": 1e-3, "U": 1e-6, "N": 1e-9}
"""IEEE 488.2, 7.7.3: MA is mega, M milli; but MHZ and MOHM are mega"""
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


def number(text: str, low: float, high: float, unit: str = "") -> float:
    """A numeric parameter between its limits, with MINimum and MAXimum, and with a suffix where `unit` says which."""
    word = text.strip().upper()
    if word in ("MIN", "MINIMUM"):
        return low
    if word in ("MAX", "MAXIMUM"):
        return high
    if word in ("NAN", "INF", "+INF", "-INF", "INFINITY", "NINF"):
        raise Refused(RANGE)
    found = re.fullmatch(r"([+-]?(?:\d+\.?\d*|\.\d+)(?:E[+-]?\d+)?)\s*([A-Z]*)", word)
    if found is None:
        raise Refused(TYPE)
    value, suffix = float(found[1]), found[2]
    if suffix:
        front = suffix.removesuffix(unit.upper())
        if not unit or not suffix.endswith(unit.upper()) or front not in MULTIPLIERS:
            raise Refused(SUFFIX)
        value *= 1e6 if front == "M" and unit.upper() in ("HZ", "OHM") else MULTIPLIERS[front]
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
        self.errors: deque[int] = deque()
        self.events = 128
        """Event status register; the power was switched on."""
        self.enabled = self.service = 0
        """Event status enable and service request enable registers"""
        own = {"*IDN?": "idn", "*RST": "reset", "*CLS": "clear", "*OPC": "complete", "*OPC?": "opc", "*ESR?": "esr",
               "*STB?": "stb", "*WAI": "wait", "*ESE": "enable", "*ESE?": "enable_query", "*SRE": "request",
               "*SRE?": "request_query", "*TST?": "test", "SYSTem:VERSion?": "version", "SYSTem:ERRor?": "error",
               "SYSTem:ERRor:NEXT?": "error", "SYSTem:ERRor:COUNt?": "count"}  # fmt: skip
        self.known = [(pattern(h), name) for h, name in {**own, **self.commands}.items()]

    def refuse(self, number: int) -> None:
        """Put an error into the queue and the status register."""
        self.events |= STATUS_BIT.get(-(-number // 100), 8)
        if len(self.errors) >= QUEUE:
            self.errors[-1] = OVERFLOW
            self.events |= STATUS_BIT[-3]
        else:
            self.errors.append(number)

    def handle(self, line: str) -> Answer:
        """Carry out one message, several commands parted by semicolons; what they answer.

        A header that does not begin with a colon is meant below the path of the one before it (SCPI-1999, 6.2.4);
        common commands leave that path as it is.
        """
        answers: list[str | bytes] = []
        path = ""
        for one in filter(None, (part.strip() for part in line.split(";"))):
            header, _, rest = one.partition(" ")
            given = [p.strip() for p in rest.split(",")] if rest.strip() else []
            whole = header if header.startswith("*") else header[1:] if header.startswith(":") else path + header
            try:
                made = self._one(whole, given)
            except Refused as refused:
                self.refuse(refused.number)
                continue
            finally:
                if not header.startswith("*"):
                    path = whole[: whole.rfind(":") + 1]
            if made is not None:
                answers.append(made)
        if not answers:
            return None
        if len(answers) == 1:
            return answers[0]
        if any(isinstance(a, bytes) for a in answers):
            return b";".join(a if isinstance(a, bytes) else a.encode("latin-1") for a in answers)
        return ";".join(str(a) for a in answers)

    def _one(self, header: str, given: list[str]) -> Answer:
        for expression, name in self.known:
            if expression.fullmatch(header):
                serve: Callable[..., Answer] = getattr(self, name)
                wanted = inspect.signature(serve).parameters.values()
                if len(given) > len(wanted):
                    raise Refused(SURPLUS)
                if len(given) < sum(1 for p in wanted if p.default is p.empty):
                    raise Refused(MISSING)
                return serve(*given)
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

    def enable(self, mask: str) -> None:
        self.enabled = int(number(mask, 0, 255))

    def enable_query(self) -> str:
        return str(self.enabled)

    def request(self, mask: str) -> None:
        self.service = int(number(mask, 0, 255)) & ~64

    def request_query(self) -> str:
        return str(self.service)

    def test(self) -> str:
        """All is well."""
        return "0"

    def version(self) -> str:
        return "1999.0"

    def count(self) -> str:
        return str(len(self.errors))

    def stb(self) -> str:
        held = (4 if self.errors else 0) | (32 if self.events & self.enabled else 0)
        return str(held | (64 if held & self.service else 0))

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
                    while raw := self.rfile.readline(LONGEST + 1):
                        if len(raw) > LONGEST:
                            instrument.refuse(MUCH)
                            while raw and not raw.endswith(b"\n"):
                                raw = self.rfile.readline(LONGEST)
                            continue
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
