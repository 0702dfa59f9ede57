"""Electronic data sheets of sensors (IEEE 1451.4): the basic data, and the templates for accelerometers, force
sensors and microphones, bit by bit.

A sheet is a stream of bits, the lowest of each byte first. The basic data (64 bits) name maker, model, version and
serial number. After them a selector (2 bits: 0 a standard template, 3 the end) and a template's number (8 bits) say
what follows. A relative value is start·(1 + 2·tolerance)ⁿ, an absolute one start + step·n. In memory every page of
32 bytes begins with a byte that makes the page's sum zero in eight bits.
"""

from __future__ import annotations

import datetime
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from ..core.errors import BadInput

PAGE = 32
EPOCH = datetime.date(1998, 1, 1)
LETTERS = " ABCDEFGHIJKLMNOPQRSTUVWXYZ"


@dataclass(frozen=True)
class Field:
    """One field of a template."""

    name: str
    bits: int
    kind: str
    """relative, absolute, integer, choice, date, letters or switch"""
    start: float = 0.0
    step: float = 0.0
    """tolerance of a relative value, step of an absolute one"""
    unit: str = ""
    choices: tuple[str, ...] = ()
    inner: tuple[tuple[Field, ...], ...] = ()
    """Of a switch: the fields that follow for each of its values."""


COMMON_END = (
    Field("reference_frequency", 8, "relative", 0.35, 0.0175, "Hz"),
    Field("reference_temperature", 5, "absolute", 15.0, 0.5, "°C"),
    Field("calibrated", 16, "date"),
    Field("calibrated_by", 15, "letters"),
    Field("period", 12, "integer", unit="d"),
    Field("location", 11, "integer"),
)
TRANSFER = (
    Field("low_pass", 7, "relative", 10.0, 0.05, "Hz"),
    Field("resonance", 9, "relative", 100.0, 0.01, "Hz"),
    Field("quality", 9, "relative", 0.4, 0.01),
    Field("slope", 7, "absolute", -6.3, 0.1, "%/decade"),
    Field("temperature_coefficient", 6, "absolute", -0.8, 0.025, "%/°C"),
)
ACCELEROMETER = (
    Field("sensitivity", 16, "relative", 5e-7, 0.00015, "V/(m/s²)"),
    Field("high_pass", 8, "relative", 0.005, 0.03, "Hz"),
    Field("direction", 2, "choice", choices=("x", "y", "z", "not said")),
    Field("weight", 6, "relative", 0.1, 0.1, "g"),
    Field("polarity", 1, "choice", choices=("positive", "negative")),
    Field("transfer", 1, "switch", inner=((), TRANSFER)),
)
FORCE = (
    Field("sensitivity", 16, "relative", 5e-7, 0.00015, "V/N"),
    Field("high_pass", 8, "relative", 0.005, 0.03, "Hz"),
    Field("stiffness", 6, "relative", 1e5, 0.1, "N/m"),
    Field("mass_below", 6, "relative", 0.1, 0.1, "g"),
    Field("polarity", 1, "choice", choices=("positive", "negative")),
    Field("transfer", 1, "switch", inner=((), TRANSFER[:3])),
)
MICROPHONE = (
    Field("sensitivity", 16, "relative", 1e-5, 0.0001, "V/Pa"),
    Field("high_pass", 8, "relative", 0.005, 0.03, "Hz"),
    Field("polarity", 1, "choice", choices=("positive", "negative")),
    Field("response", 2, "choice", choices=("pressure", "free field", "random", "not said")),
)
TEMPLATES: dict[int, tuple[str, tuple[Field, ...]]] = {
    25: ("accelerometer or force sensor", (
        Field("quantity", 1, "switch", choices=("accelerometer", "force sensor"), inner=(ACCELEROMETER, FORCE)),
        *COMMON_END,
    )),
    27: ("microphone", (*MICROPHONE, *COMMON_END)),
}  # fmt: skip


class Bits:
    """A stream of bits, the lowest of each byte first."""

    def __init__(self, data: bytes = b"") -> None:
        self.bits = [b >> i & 1 for b in data for i in range(8)]
        self.at = 0

    def put(self, value: int, count: int) -> None:
        if not 0 <= value < 1 << count:
            raise BadInput(f"data sheet: {value} does not fit into {count} bits.")
        self.bits += [value >> i & 1 for i in range(count)]

    def take(self, count: int) -> int:
        if self.at + count > len(self.bits):
            raise BadInput("data sheet: it ends in the middle of a field: read the sensor again.")
        held = self.bits[self.at : self.at + count]
        self.at += count
        return sum(b << i for i, b in enumerate(held))

    def whole(self) -> bytes:
        padded = self.bits + [0] * (-len(self.bits) % 8)
        return bytes(sum(b << i for i, b in enumerate(padded[k : k + 8])) for k in range(0, len(padded), 8))


@dataclass(frozen=True)
class Basic:
    """The 64 bits that every sheet begins with."""

    maker: int
    model: int
    version_letter: str
    version: int
    serial: int


@dataclass(frozen=True)
class DataSheet:
    """A sheet as read: the basic data, the template's number, and its values by name in the field's unit."""

    basic: Basic
    template: int | None = None
    values: Mapping[str, Any] = field(default_factory=dict)

    @property
    def kind(self) -> str:
        """accelerometer, force sensor or microphone; empty for basic data alone."""
        if self.template == 25:
            return str(self.values.get("quantity", "accelerometer"))
        return "microphone" if self.template == 27 else ""


def _code(f: Field, value: Any) -> int:
    """The number that stands for a value. Raises BadInput when it is out of the field's reach."""
    top = (1 << f.bits) - 1
    if value is None:
        return top
    if f.kind == "relative":
        if not value > 0:
            raise BadInput(f"data sheet: {f.name} must be above zero.")
        code = round(math.log(value / f.start) / math.log(1 + 2 * f.step))
    elif f.kind == "absolute":
        code = round((value - f.start) / f.step)
    elif f.kind == "date":
        code = (value - EPOCH).days
    elif f.kind == "letters":
        code = 0
        for i, letter in enumerate(f"{value:3.3s}".upper()):
            if letter not in LETTERS:
                raise BadInput(f"data sheet: {f.name} takes three letters, not '{value}'.")
            code |= LETTERS.index(letter) << 5 * i
        return code
    elif f.kind in ("choice", "switch"):
        names = f.choices or ("no", "yes")
        if value not in names:
            raise BadInput(f"data sheet: {f.name} is one of {', '.join(names)}, not '{value}'.")
        code = names.index(value)
    else:
        code = int(value)
    if not 0 <= code <= top:
        raise BadInput(f"data sheet: {f.name} {value} is out of its field's reach.")
    return code


def _value(f: Field, code: int) -> Any:
    """What a number stands for; None where all bits are set, which says that nothing is known."""
    if f.kind in ("relative", "absolute", "date", "integer") and code == (1 << f.bits) - 1:
        return None
    if f.kind == "relative":
        return f.start * (1 + 2 * f.step) ** code
    if f.kind == "absolute":
        return f.start + f.step * code
    if f.kind == "date":
        return EPOCH + datetime.timedelta(days=code)
    if f.kind == "letters":
        return "".join(LETTERS[min(code >> 5 * i & 31, 26)] for i in range(3)).strip()
    if f.kind in ("choice", "switch"):
        return (f.choices or ("no", "yes"))[code]
    return code


def _write(bits: Bits, fields: Sequence[Field], values: Mapping[str, Any]) -> None:
    for f in fields:
        usual = (
            (f.choices or ("no", "yes"))[0] if f.kind in ("choice", "switch") else "" if f.kind == "letters" else None
        )
        code = _code(f, values.get(f.name, usual))
        bits.put(code, f.bits)
        if f.kind == "switch":
            _write(bits, f.inner[code], values)


def _read(bits: Bits, fields: Sequence[Field]) -> dict[str, Any]:
    made: dict[str, Any] = {}
    for f in fields:
        code = bits.take(f.bits)
        made[f.name] = _value(f, code)
        if f.kind == "switch":
            made |= _read(bits, f.inner[code])
    return made


def encode(sheet: DataSheet) -> bytes:
    """A sheet as it lies in memory, in whole pages with their checksums. Raises BadInput for what does not fit."""
    bits = Bits()
    b = sheet.basic
    bits.put(b.maker, 14)
    bits.put(b.model, 15)
    bits.put(LETTERS.index(b.version_letter.upper() or " "), 5)
    bits.put(b.version, 6)
    bits.put(b.serial, 24)
    if sheet.template is not None:
        if sheet.template not in TEMPLATES:
            raise BadInput(
                f"data sheet: template {sheet.template} is not known here: {', '.join(map(str, TEMPLATES))}."
            )
        bits.put(0, 2)
        bits.put(sheet.template, 8)
        _write(bits, TEMPLATES[sheet.template][1], sheet.values)
    bits.put(3, 2)
    return with_checksums(bits.whole())


def decode(memory: bytes) -> DataSheet:
    """A sheet from memory. Raises BadInput for a wrong checksum, an unknown template, or memory that ends early."""
    bits = Bits(without_checksums(memory))
    basic = Basic(
        bits.take(14), bits.take(15), LETTERS[min(bits.take(5), 26)].strip(), bits.take(6), bits.take(24)
    )  # fmt: skip
    selector = bits.take(2)
    if selector == 3:
        return DataSheet(basic)
    if selector != 0:
        raise BadInput("data sheet: it has a template of its maker's own: enter the sensor by hand.")
    number = bits.take(8)
    if number not in TEMPLATES:
        raise BadInput(f"data sheet: template {number} is not known here: enter the sensor by hand.")
    return DataSheet(basic, number, _read(bits, TEMPLATES[number][1]))


def with_checksums(content: bytes) -> bytes:
    """Content in pages of 32 bytes, each begun by the byte that makes its sum zero."""
    made = b""
    room = PAGE - 1
    for k in range(0, max(len(content), 1), room):
        page = content[k : k + room].ljust(room, b"\0")
        made += bytes([-sum(page) % 256]) + page
    return made


def without_checksums(memory: bytes) -> bytes:
    """The content. Raises BadInput naming the page whose sum is not zero."""
    if not memory or len(memory) % PAGE:
        raise BadInput(f"data sheet: {len(memory)} bytes are no whole pages of {PAGE}: read the sensor again.")
    made = b""
    for k in range(0, len(memory), PAGE):
        page = memory[k : k + PAGE]
        if sum(page) % 256:
            raise BadInput(f"data sheet: the checksum of page {k // PAGE + 1} is wrong: read the sensor again.")
        made += page[1:]
    return made
