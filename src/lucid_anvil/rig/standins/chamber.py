"""The stand-in chamber: air that follows its set point late, a Modbus TCP server that any client may talk to."""

from __future__ import annotations

from typing import Any, Protocol

from ..chamber import ChamberPart, from_counts, to_counts
from .modbus import HOLDING, INPUT, ModbusServer


class Warm(Protocol):
    """A bench with a chamber."""

    set_point: float
    """°C"""
    air: float
    """°C"""

    def silent(self) -> bool:
        """Whether its controller answers nobody, now."""
        ...


class Direct:
    """The chamber of a bench in this very process, without the line between."""

    def __init__(self, bench: Warm, part: ChamberPart) -> None:
        self.bench, self.part = bench, part

    def look(self) -> dict[str, Any]:
        """As `rig.chamber.ChamberDesk.look`."""
        held = {"chamber": self.bench.air, "chamber_set": self.bench.set_point}
        return {k: from_counts(to_counts(v, self.part.step), self.part.step) for k, v in held.items()}

    def put(self, name: str, value: Any) -> None:
        """As `rig.chamber.ChamberDesk.put`."""
        if name == "chamber":
            self.bench.set_point = from_counts(to_counts(float(value), self.part.step), self.part.step)


def server(bench: Warm, part: ChamberPart, port: int = 0) -> ModbusServer:
    """The chamber's controller at a TCP port."""

    def take(address: int, words: list[int]) -> None:
        if address == part.set_register:
            bench.set_point = from_counts(words[0], part.step)

    first = [to_counts(bench.set_point, part.step)]
    return ModbusServer(
        "chamber", part.unit, {(HOLDING, part.set_register): first, (INPUT, part.read_register): first}, bench.silent,
        {INPUT: lambda _: [to_counts(bench.air, part.step)]}, take, port,
    )  # fmt: skip
