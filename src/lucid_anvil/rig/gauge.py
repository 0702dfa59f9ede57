"""A reference that is read over its own line, by SCPI or Modbus TCP: what it shows, in N or Pa."""

from __future__ import annotations

import math
import struct
import time
from typing import Any, Literal

from pydantic import Field, model_validator

from ..contracts.settings import Model
from ..core.quantities import factor, same_kind
from .instruments import PATIENCE, Instrument, Trouble
from .modbus import ModbusLine

Words = Literal["int16", "uint16", "int32", "uint32", "float32"]
_FORMATS = {"int16": ">h", "uint16": ">H", "int32": ">i", "uint32": ">I", "float32": ">f"}
MEASURES = {"force": "N", "pressure": "Pa"}


class GaugePart(Model):
    """Where it is, how it is asked, and what its numbers mean."""

    measures: Literal["force", "pressure"]
    unit: str
    """Of the numbers that it says, such as bar or kN"""
    sensor: str | None = None
    """Serial number in the ledger"""
    host: str = "127.0.0.1"
    port: int | None = Field(default=None, ge=1, le=65535)
    """None where a stand-in tells its own"""
    over: Literal["scpi", "modbus"] = "scpi"
    query: str = "MEAS?"
    """What it is asked, over SCPI; the answer is one number"""
    device: int = Field(default=1, ge=0, le=255)
    """Modbus unit identifier"""
    table: Literal["input", "holding"] = "input"
    first: int = Field(default=0, ge=0, le=65535)
    """Its first register, from 0"""
    words: Words = "float32"
    order: Literal["high first", "low first"] = "high first"
    """Of the two registers of a number of 32 bits"""
    count: float = Field(default=1.0, gt=0)
    """Of the unit, that a whole number counts"""

    @model_validator(mode="after")
    def _sensible(self) -> GaugePart:
        if not same_kind(self.unit, MEASURES[self.measures]):
            raise ValueError(f"gauge: it measures {self.measures}, which is not in '{self.unit}'.")
        if self.over == "scpi" and not self.query.strip().endswith("?"):
            raise ValueError("gauge: its query ends in a question mark.")
        return self

    @property
    def size(self) -> int:
        """Registers of a number."""
        return struct.calcsize(_FORMATS[self.words]) // 2

    def number(self, registers: list[int]) -> float:
        """What registers say, in the gauge's unit."""
        held = registers if self.order == "high first" else registers[::-1]
        (value,) = struct.unpack(_FORMATS[self.words], struct.pack(f">{self.size}H", *held))
        return float(value) * self.count

    def registers(self, value: float) -> list[int]:
        """The registers that say a number in the gauge's unit, as near as they can."""
        held = value / self.count
        whole = struct.pack(_FORMATS[self.words], held if self.words == "float32" else round(held))
        made = list(struct.unpack(f">{self.size}H", whole))
        return made if self.order == "high first" else made[::-1]


class GaugeDesk:
    """The gauge alone at the keeper's desk. Raises Trouble with what, where and why."""

    def __init__(self, part: GaugePart, host: str, port: int, patience: float = PATIENCE) -> None:
        self.part, self.where = part, f"{host}:{port}"
        self.by = factor(part.unit, MEASURES[part.measures])
        speaks = Instrument if part.over == "scpi" else ModbusLine
        self.line: Instrument | ModbusLine = speaks("gauge", host, port, patience)

    @property
    def answers(self) -> list[tuple[str, str, float]]:
        """The gauge, who it says it is, and the time [s] that a first look took. Raises Trouble."""
        began = time.monotonic()
        self.look()
        who = self.line.identity if isinstance(self.line, Instrument) else f"Modbus TCP at {self.where}"
        return [("gauge", who, time.monotonic() - began)]

    def look(self) -> dict[str, Any]:
        """`gauge`: what it shows [N or Pa]."""
        p = self.part
        if isinstance(self.line, Instrument):
            value = self.line.number(p.query)
        else:
            kind = "read_input_registers" if p.table == "input" else "read_holding_registers"
            value = p.number(self.line.registers(
                lambda c: getattr(c, kind)(p.first, count=p.size, device_id=p.device), p.size))  # fmt: skip
        if not math.isfinite(value):
            raise Trouble(f"The gauge at {self.where} shows no number: it is beyond its range, or nothing is on it.")
        return {"gauge": value * self.by}

    def put(self, name: str, value: Any) -> None:
        """It takes no setting."""

    def close(self) -> None:
        self.line.close()
