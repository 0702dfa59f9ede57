"""A climate chamber over Modbus TCP: its set point written, its air's temperature read."""

from __future__ import annotations

import time
from typing import Any

from ..contracts.settings import Model
from .instruments import PATIENCE, Trouble
from .modbus import ModbusLine


class ChamberPart(Model):
    """Where it is, and what its registers mean; usual controllers hold tenths of a degree."""

    host: str = "127.0.0.1"
    port: int | None = None
    """None where a stand-in tells its own"""
    unit: int = 1
    """Modbus unit identifier"""
    set_register: int = 0
    """Holding register of the set point, from 0"""
    read_register: int = 0
    """Input register of the temperature, from 0"""
    step: float = 0.1
    """°C of one count; counts are whole, below zero as two's complement"""
    lowest: float = -60.0
    """°C that may be asked for"""
    highest: float = 250.0


def to_counts(temperature: float, step: float) -> int:
    """A register's 16 bits for a temperature [°C]. Raises Trouble where they can't hold it."""
    count = round(temperature / step)
    if not -32768 <= count < 32768:
        raise Trouble(f"The chamber can't be asked for {temperature:g} °C: its register does not hold it.")
    return count & 0xFFFF


def from_counts(register: int, step: float) -> float:
    """°C of a register's 16 bits."""
    return (register - 65536 if register >= 32768 else register) * step


class ChamberDesk:
    """The chamber alone at the keeper's desk. Raises Trouble with what, where and why."""

    def __init__(self, part: ChamberPart, host: str, port: int, patience: float = PATIENCE) -> None:
        self.part, self.line = part, ModbusLine("chamber", host, port, patience)

    @property
    def answers(self) -> list[tuple[str, str, float]]:
        """The chamber, what speaks there, and the time [s] that a first look took. Raises Trouble."""
        began = time.monotonic()
        self.look()
        return [("chamber", f"Modbus TCP at {self.line.where}", time.monotonic() - began)]

    def look(self) -> dict[str, Any]:
        """`chamber`: its air [°C]; `chamber_set`: what it was asked for."""
        p = self.part
        read = self.line.registers(lambda c: c.read_input_registers(p.read_register, count=1, device_id=p.unit), 1)
        held = self.line.registers(lambda c: c.read_holding_registers(p.set_register, count=1, device_id=p.unit), 1)
        air, wanted = (from_counts(one, p.step) for (one,) in (read, held))
        return {"chamber": air, "chamber_set": wanted}

    def put(self, name: str, value: Any) -> None:
        """`chamber` [°C]."""
        p, wanted = self.part, float(value)
        if name != "chamber":
            return
        if not p.lowest <= wanted <= p.highest:
            raise Trouble(f"The chamber may be asked for {p.lowest:g} to {p.highest:g} °C, not for {wanted:g} °C.")
        counts = to_counts(wanted, p.step)
        self.line.done(lambda c: c.write_register(p.set_register, counts, device_id=p.unit))

    def close(self) -> None:
        self.line.close()
