"""Instruments over SCPI, through pyvisa: supply, load bank and voltmeter, and what to say when one does not answer."""

from __future__ import annotations

import contextlib
import math
import re
import select
import socket
import time
from collections.abc import Mapping
from typing import Any

import numpy as np

from ..core.signal.sinefit import Floats

ON_THE_DESK = ("supply", "loads", "fan", "meter", "chamber")
"""Settings that instruments take; the others are the front end's."""
NUMBER = re.compile(r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?")
"""A decimal number as instruments send it (IEEE 488.2, 8.7.2 to 8.7.4)"""
LONGEST = 65536
"""Bytes of an answer"""
PATIENCE = 1.0
"""s of wall time that an instrument may take to answer"""


class Trouble(Exception):
    """An instrument that does not answer, or answers what can't be read. One sentence."""


class Instrument:
    """One SCPI instrument at a TCP port. Raises Trouble with what, where and why."""

    def __init__(self, name: str, host: str, port: int, patience: float = PATIENCE) -> None:
        import pyvisa

        self.name, self.where = name, f"{host}:{port}"
        self.address = f"TCPIP::{host}::{port}::SOCKET"
        self.patience = patience
        self.manager = pyvisa.ResourceManager("@py")
        self.visa: Any = None
        self.visa = self._open()
        began = time.monotonic()
        self.identity = self.ask("*IDN?")
        self.took = time.monotonic() - began
        """s that it took to say who it is"""

    def _open(self) -> Any:
        if self.visa is None:
            import pyvisa

            try:
                self.visa = self.manager.open_resource(
                    self.address, read_termination="\n", write_termination="\n", timeout=1e3 * self.patience
                )
            except (pyvisa.Error, OSError) as problem:
                raise Trouble(f"The {self.name} at {self.where} can't be reached: look at its cable and power.") \
                    from problem  # fmt: skip
        return self.visa

    def close(self) -> None:
        if self.visa is not None:
            with contextlib.suppress(Exception):
                self.visa.close()
        self.visa = None

    def ask(self, query: str) -> str:
        """The answer to a query: one line, whole, of `LONGEST` bytes at most. A late or a second one would be taken
        for the next one's, so the line is opened anew after it."""
        import pyvisa

        try:
            visa = self._open()
            if self._unasked():
                self.close()
                raise Trouble(f"The {self.name} at {self.where} says more than it was asked: switch it off and on.")
            visa.write(query)
            held = bytes(visa.read_bytes(LONGEST, break_on_termchar=True))
            if not held.endswith(b"\n"):
                self.close()
                raise Trouble(f"The {self.name} at {self.where} does not answer in whole lines: switch it off and on.")
            return held.decode("ascii").strip()
        except (pyvisa.Error, OSError) as problem:
            self.close()
            raise Trouble(f"The {self.name} at {self.where} does not answer: look at its cable and power.") \
                from problem  # fmt: skip
        except UnicodeDecodeError:
            self.close()
            raise Trouble(f"The {self.name} at {self.where} answers what can't be read: switch it off and on.") \
                from None  # fmt: skip

    def _unasked(self) -> bool:
        """Whether something is there to be read before anything was asked."""
        session = getattr(self.manager.visalib, "sessions", {}).get(self.visa.session)
        if getattr(session, "_pending_buffer", b""):
            return True
        held = getattr(session, "interface", None)
        if held is None or not select.select([held], [], [], 0)[0]:
            return False
        with contextlib.suppress(OSError):
            return bool(held.recv(1, socket.MSG_PEEK))  # nothing: it hung up, which asking will tell
        return False

    def number(self, query: str) -> float:
        """The answer as a number; 9.9E37 is endless, 9.91E37 no number (SCPI-1999, 7.2.1)."""
        held = self.ask(query)
        if not NUMBER.fullmatch(held) or math.isclose(value := float(held), 9.91e37, rel_tol=1e-4):
            self.close()
            raise Trouble(f"The {self.name} at {self.where} answers {held[:20]!r} to {query}: a number was wanted.")
        return math.inf if value > 9e37 else value

    def tell(self, command: str) -> None:
        """Carry out a command, wait until it is done, and see whether it was taken: one message for all three, since
        two in a row would wait for each other's acknowledgement."""
        done, _, said = self.ask(f"{command};*OPC?;:SYST:ERR?").partition(";")
        if not said.lstrip("+").startswith("0,") or done.lstrip("+") != "1":
            raise Trouble(f"The {self.name} does not take '{command}': it says {said or done}.")

    def samples(self, query: str) -> Floats:
        """A definite-length block of 32-bit floats."""
        import pyvisa

        try:
            return np.asarray(self._open().query_binary_values(query, datatype="f", is_big_endian=False), dtype=float)
        except (pyvisa.Error, OSError, ValueError) as problem:
            self.close()
            raise Trouble(f"The {self.name} at {self.where} sends a block that can't be read.") from problem


class Desk:
    """The bench's instruments together: what they show, and what they are set to."""

    def __init__(self, where: Mapping[str, tuple[str, int]], channels: list[str], patience: float = PATIENCE) -> None:
        """`where` host and port by supply, load and meter; `channels` of the amplifier, in the load bank's order."""
        self.channels = channels
        self.held = {name: Instrument(name, host, port, patience) for name, (host, port) in where.items()}

    @property
    def identities(self) -> dict[str, str]:
        return {name: one.identity for name, one in self.held.items()}

    @property
    def answers(self) -> list[tuple[str, str, float]]:
        """Name, identity and the time [s] that it took to say it, of each."""
        return [(name, one.identity, one.took) for name, one in self.held.items()]

    def look(self) -> dict[str, Any]:
        """What they show: supply [V], supply_current [A], and by channel load temperature [°C], resistance [ohm],
        None where it is off; the fan, and the meter [V]. Raises Trouble."""
        supply, load = self.held["supply"], self.held["load"]
        numbers = range(1, len(self.channels) + 1)
        hot = [load.number(f"MEAS:TEMP? {i}") for i in numbers]
        ohms = [load.number(f"MEAS:RES? {i}") for i in numbers]
        return {
            "supply": supply.number("MEAS:VOLT?"),
            "supply_current": supply.number("MEAS:CURR?"),
            "temperature": dict(zip(self.channels, hot, strict=True)),
            "resistance": {c: (None if math.isinf(r) else r) for c, r in zip(self.channels, ohms, strict=True)},
            "fan": load.ask("FAN?") in ("1", "ON"),
            "meter": self.held["meter"].number("MEAS:VOLT:AC?") if "meter" in self.held else None,
        }

    def put(self, name: str, value: Any) -> None:
        """Set one thing: `supply` [V], `fan`, the `meter`'s channel, or `loads` by channel [ohm, None for off].
        Raises Trouble."""
        if name == "supply":
            self.held["supply"].tell(f"VOLT {float(value):.3f}")
        elif name == "meter":
            self.held["meter"].tell(f"ROUT:CHAN {self.channels.index(str(value)) + 1}")
        elif name == "fan":
            self.held["load"].tell(f"FAN {'ON' if value else 'OFF'}")
        elif name == "loads":
            for channel, ohm in dict(value).items():
                at = self.channels.index(channel) + 1
                self.held["load"].tell(f"ROUT:LOAD {at},{'OFF' if ohm is None else format(float(ohm), 'g')}")

    def close(self) -> None:
        for one in self.held.values():
            one.close()
