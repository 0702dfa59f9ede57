"""The stand-in gauge: a reference's indication, over SCPI or Modbus TCP, for any client that speaks them."""

from __future__ import annotations

from typing import Any, Protocol

from ...core.quantities import factor
from ..gauge import MEASURES, GaugePart
from .modbus import HOLDING, INPUT, ModbusServer
from .scpi import Scpi, ScpiServer


class Shown(Protocol):
    """A bench with a gauge."""

    def indication(self) -> float:
        """N or Pa that it shows now."""
        ...

    def silent(self) -> bool:
        """Whether it answers nobody, now."""
        ...


class Direct:
    """The gauge of a bench in this very process, without the line between."""

    def __init__(self, bench: Shown) -> None:
        self.bench = bench

    def look(self) -> dict[str, Any]:
        """As `rig.gauge.GaugeDesk.look`."""
        return {"gauge": self.bench.indication()}

    def put(self, name: str, value: Any) -> None:
        """It takes no setting."""


class ScpiGauge(Scpi):
    """It answers what it shows, in its unit."""

    identity = "Lucid Anvil,stand-in gauge,0,1"

    def __init__(self, bench: Shown, part: GaugePart) -> None:
        self.commands = {part.query: "measure"}
        super().__init__()
        self.bench, self.by = bench, factor(MEASURES[part.measures], part.unit)

    def measure(self) -> str:
        return f"{self.bench.indication() * self.by:.9E}"


def server(bench: Shown, part: GaugePart, port: int = 0) -> Any:
    """The gauge at a TCP port; `ports` says which."""
    if part.over == "scpi":
        made: Any = ScpiServer(ScpiGauge(bench, part), lambda: ("silent", 0.0) if bench.silent() else None, port)
        made.ports = {"gauge": made.port}
        return made
    by = factor(MEASURES[part.measures], part.unit)

    def read(_address: int) -> list[int]:
        return part.registers(bench.indication() * by)

    tables = {"input": INPUT, "holding": HOLDING}
    return ModbusServer("gauge", part.device, {(tables[part.table], part.first): [0] * part.size}, bench.silent,
                        {tables[part.table]: read}, port=port)  # fmt: skip
