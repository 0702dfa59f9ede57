"""Sizes that a person types on a drawing, once or several times, and what is asked about before it is believed."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from ....core.errors import BadInput
from ....core.quantities import parse
from ....desktop.parts.asking import ask_line
from ....desktop.parts.forms import Field, Sheet
from ....lab.editing import put

if TYPE_CHECKING:
    from ....desktop.bench.place import BenchPlace

_VALUES = re.compile(r"([-−+]?\d+(?:[.,]\d+)?)\s*([A-Za-zµ][A-Za-zµ/²³]*)?")
FACTOR = 10.0
"""By which a size may differ from what stood there before it is asked about"""


@dataclass(frozen=True)
class Size:
    """What can be typed."""

    name: str
    unit: str = "mm"
    """That it is shown in, and that counts where none is typed"""
    si: str = "m"
    scale: float = 1e3
    """Of SI units as they are shown (g is an acceleration to whoever converts units)"""


SPECIMEN = {
    "width": Size("Width"), "thickness": Size("Thickness"), "diameter": Size("Diameter"),
    "inner_diameter": Size("Inner diameter"), "area": Size("Area", "mm²", "m^2", 1e6),
    "gauge_length": Size("Gauge length of the extensometer"), "parallel_length": Size("Parallel length"),
    "mass": Size("Mass", "g", "kg"), "density": Size("Density", "g/cm³", "kg/m^3", 1e-3),
    "total_length": Size("Length of all of it"),
}  # fmt: skip
GEOMETRY = {
    "length": Size("Length"), "width": Size("Width"), "thickness": Size("Thickness"),
    "area": Size("Area", "mm²", "m^2", 1e6),
}  # fmt: skip


def in_unit(key: str, value: float) -> float:
    """A size in SI units as it is shown."""
    return value * {**SPECIMEN, **GEOMETRY}[key].scale


@dataclass(frozen=True)
class Several:
    """A size from several measurements."""

    mean: float
    """In SI units"""
    spread: float
    """Standard deviation; 0 for one"""
    count: int
    size: Size

    @property
    def text(self) -> str:
        """As it stands in a plan."""
        return f"{self.size.scale * self.mean:.6g} {self.size.unit}"


def measured(text: str, size: Size) -> Several:
    """One value or several, parted by semicolons or blanks, in the size's own unit where none stands: '12.48; 12.50;
    12.47 mm'. Raises BadInput."""
    pieces = _VALUES.findall(text)
    if not pieces or _VALUES.sub("", text).strip(" ;,"):
        raise BadInput(f"{size.name}: type a value in {size.unit}, or several, like 12.48 12.50.")
    values = [parse(f"{number} {unit or size.unit}", size.si, size.name) for number, unit in pieces]
    if min(values) <= 0:
        raise BadInput(f"{size.name}: it must be above zero.")
    if max(values) > 1.2 * min(values):
        raise BadInput(f"{size.name}: {text} lie further apart than a fifth: look at them again.")
    spread = float(np.std(values, ddof=1)) if len(values) > 1 else 0.0
    return Several(float(np.mean(values)), spread, len(values), size)


def doubtful(before: float | None, now: float) -> bool:
    """Whether a size looks wrong by a factor of ten."""
    return before is not None and not before / FACTOR * 1.5 < now < before * FACTOR / 1.5


class SizeAsking:
    """Sizes of one part of a plan's settings, typed in the window; `held` tells those of the moment, in SI units."""

    def __init__(
        self, bench: BenchPlace, group: str, sizes: Mapping[str, Size], held: Callable[[], Mapping[str, float | None]]
    ) -> None:
        self.bench, self.group, self.sizes, self.held = bench, group, sizes, held

    def ask(self, key: str) -> None:
        """Type a size, once or several times."""
        size, now = self.sizes[key], self.held().get(key)
        ask_line(
            self.bench, f"{size.name}, in {size.unit}: one value, or several", "Keep it",
            lambda text: self.put(key, text), f"{in_unit(key, now):.6g}" if now else "",
        )  # fmt: skip

    def put(self, key: str, text: str) -> None:
        """Into the plan; what looks wrong by a factor of ten is asked about first."""
        place, size = self.bench.plan_file, self.sizes[key]
        if place is None:
            return
        try:
            made = measured(text, size)
        except BadInput as problem:
            self.bench.said.emit(str(problem))
            return

        def keep() -> None:
            self.choose(key, made.text)
            if made.count > 1:
                spread = size.scale * made.spread
                told = f"{size.name}: mean of {made.count}, {made.text}, spread {spread:.2g} {size.unit}."
                self.bench.said.emit(told)

        if doubtful(self.held().get(key), made.mean):
            text = f"{made.text} is some ten times off what stood there."
            Sheet(self.bench, f"{size.name}: is it right?", text, [], "It is right", lambda _: keep()).open()
        else:
            keep()

    def choose(self, key: str, value: Any, needs: Sequence[str] = ()) -> None:
        """Any setting of that part, into the plan; sizes that it needs and that are not there are typed first."""
        place, now = self.bench.plan_file, self.held()
        if place is None:
            return
        missing = [k for k in needs if not now.get(k)]

        def keep(typed: Mapping[str, str]) -> None:
            made = {k: measured(typed[k], self.sizes[k]).text for k in missing}

            def all_of_it() -> None:
                for k, text in made.items():
                    put(place, (self.group, k), text)
                put(place, (self.group, key), value)

            self.bench.editing.change(place, all_of_it, self.bench.said.emit)

        if not missing:
            keep({})
            return
        fields = [Field(k, f"{self.sizes[k].name}, {self.sizes[k].unit}") for k in missing]
        word = str(value).replace("_", " ")
        text = "One value each, or several, such as 12.48 12.50."
        Sheet(self.bench, f"Sizes of it: {word}", text, fields, "Keep them", keep).open()
