"""The amplifier bench's instruments: a settable supply, a switched load bank with a fan, a voltmeter."""

from __future__ import annotations

from typing import Any

import numpy as np

from ...rig.standins.scpi import RANGE, STATE, TYPE, Refused, Scpi, ScpiServer, block, number, onoff
from .standin import AmplifierBench


class Supply(Scpi):
    """Variable mains, or a bench supply."""

    identity = "Lucid Anvil,stand-in supply,VS-1,1.0"
    commands = {
        "[SOURce:]VOLTage": "put", "[SOURce:]VOLTage?": "put_query", "MEASure:VOLTage?": "volts",
        "MEASure:POWer?": "power", "MEASure:CURRent?": "current", "OUTPut": "switch", "OUTPut?": "switched",
    }  # fmt: skip

    def __init__(self, bench: AmplifierBench) -> None:
        super().__init__()
        self.bench = bench

    def put(self, text: str) -> None:
        if not self.bench.scene.supply.settable:
            raise Refused(STATE)
        nominal = self.bench.scene.supply.nominal
        self.bench.set_volts = number(text, 0.0, 1.2 * nominal, "V")

    def put_query(self) -> str:
        return f"{self.bench.set_volts:.3f}"

    def volts(self) -> str:
        return f"{self.bench.supply:.3f}"

    def power(self) -> str:
        return f"{self.bench.drawn:.2f}"

    def current(self) -> str:
        return f"{self.bench.drawn / max(self.bench.supply, 1.0):.4f}"

    def switch(self, text: str) -> None:
        self.bench.on = onoff(text)

    def switched(self) -> str:
        return str(int(self.bench.on))

    def reset(self) -> None:
        self.bench.set_volts = self.bench.scene.supply.actual


class Loads(Scpi):
    """The load bank. Channels are numbered from 1, as the amplifier's are."""

    identity = "Lucid Anvil,stand-in load bank,LB-2,1.0"
    commands = {
        "ROUTe:LOAD": "switch", "ROUTe:LOAD?": "switched", "MEASure:TEMPerature?": "temperature",
        "MEASure:RESistance?": "resistance", "FAN": "fan", "FAN?": "fan_query", "SYSTem:LIMit?": "limit",
    }  # fmt: skip

    def __init__(self, bench: AmplifierBench) -> None:
        super().__init__()
        self.bench = bench
        self.names = list(bench.positions)
        self.rng = np.random.default_rng(5)

    def _at(self, text: str) -> str:
        return self.names[int(number(text, 1, len(self.names))) - 1]

    def switch(self, channel: str, load: str) -> None:
        """A load in ohm, as the bank has it, or OFF."""
        at = self._at(channel)
        if load.upper() == "OFF":
            self.bench.positions[at].load = None
            return
        value = number(load, 0.1, 1e4, "OHM")
        if not any(abs(value - one) < 1e-6 for one in self.bench.scene.load.loads):
            raise Refused(RANGE)
        self.bench.positions[at].load = value

    def switched(self, channel: str) -> str:
        held = self.bench.positions[self._at(channel)].load
        return "OFF" if held is None else f"{held:g}"

    def temperature(self, channel: str) -> str:
        return f"{self.bench.positions[self._at(channel)].temperature + 0.05 * self.rng.standard_normal():.2f}"

    def resistance(self, channel: str) -> str:
        """ohm, measured through sense leads as hot as the resistor is."""
        held = self.bench.resistor(self._at(channel))
        return "9.9E37" if held is None else f"{held:.5f}"

    def fan(self, text: str) -> None:
        self.bench.fan = onoff(text)

    def fan_query(self) -> str:
        return str(int(self.bench.fan))

    def limit(self) -> str:
        return f"{self.bench.scene.load.limit:g}"


class Meter(Scpi):
    """A voltmeter with a step that may be too coarse for the question."""

    identity = "Lucid Anvil,stand-in voltmeter,VM-5,1.0"
    commands = {
        "ROUTe:CHANnel": "choose", "ROUTe:CHANnel?": "chosen", "MEASure:VOLTage:AC?": "alternating",
        "MEASure:VOLTage:DC?": "direct", "TRACe:DATA?": "trace", "SENSe:VOLTage:RESolution?": "resolution",
    }  # fmt: skip

    def __init__(self, bench: AmplifierBench) -> None:
        super().__init__()
        self.bench = bench
        self.names = list(bench.positions)
        self.at = self.names[0]

    def choose(self, channel: str) -> None:
        self.at = self.names[int(number(channel, 1, len(self.names))) - 1]

    def chosen(self) -> str:
        return str(self.names.index(self.at) + 1)

    def _rounded(self, value: float) -> str:
        step = self.bench.scene.meter_resolution
        return f"{round(value / step) * step:.6f}"

    def alternating(self) -> str:
        return self._rounded(self.bench.positions[self.at].volts)

    def direct(self) -> str:
        return self._rounded(self.bench.positions[self.at].offset)

    def trace(self, points: str = "1000") -> bytes:
        """The last samples at the terminals."""
        count = int(number(points, 1, 1e6))
        if count < 1:
            raise Refused(TYPE)
        return block(self.bench.positions[self.at].trace[-count:])

    def resolution(self) -> str:
        return f"{self.bench.scene.meter_resolution:g}"


KINDS: dict[str, type[Supply] | type[Loads] | type[Meter]] = {"supply": Supply, "load": Loads, "meter": Meter}


class Direct:
    """The same instruments for a bench in this very process: their commands, without the line between."""

    def __init__(self, bench: AmplifierBench) -> None:
        self.bench, self.supply, self.load, self.meter = bench, Supply(bench), Loads(bench), Meter(bench)

    def look(self) -> dict[str, Any]:
        """As `rig.instruments.Desk.look`."""
        names = self.load.names
        held = {n: self.load.switched(str(i + 1)) for i, n in enumerate(names)}
        return {
            "supply": float(self.supply.volts()),
            "supply_current": float(self.supply.current()),
            "temperature": {n: float(self.load.temperature(str(i + 1))) for i, n in enumerate(names)},
            "resistance": {n: None if held[n] == "OFF"
                           else float(self.load.resistance(str(i + 1))) for i, n in enumerate(names)},
            "fan": self.bench.fan,
            "meter": float(self.meter.alternating()),
        }  # fmt: skip

    def put(self, name: str, value: Any) -> None:
        """As `rig.instruments.Desk.put`."""
        names = self.load.names
        if name == "supply":
            self.supply.put(str(value))
        elif name == "fan":
            self.load.fan("ON" if value else "OFF")
        elif name == "meter":
            self.meter.choose(str(names.index(value) + 1))
        elif name == "loads":
            for channel, ohm in dict(value).items():
                self.load.switch(str(names.index(channel) + 1), "OFF" if ohm is None else str(ohm))


class Desk:
    """The three instruments as servers, with the faults that the rig file throws at them by name."""

    def __init__(self, bench: AmplifierBench, port: int = 0) -> None:
        """`port` of the first, the others on the next; 0 takes free ones."""
        self.bench = bench

        def trouble(name: str) -> tuple[str, float] | None:
            for kind in ("silent", "late", "garbage"):
                held = bench.fault(kind, name)
                if held is not None:
                    return kind, held.size
            return None

        self.servers = {
            name: ScpiServer(kind(bench), lambda name=name: trouble(name), port + i if port else 0)  # type: ignore[misc]
            for i, (name, kind) in enumerate(KINDS.items())
        }

    @property
    def ports(self) -> dict[str, int]:
        return {name: one.port for name, one in self.servers.items()}

    def close(self) -> None:
        for one in self.servers.values():
            one.close()
