"""Formulas that people type over measured quantities: `force_max / area + 2 kPa`. Units are carried through and checked
once, before anything is computed. A small language of its own, read by the few lines below: nothing of it is ever run
as a program.

    formula := term (("+" | "-") term)*
    term    := factor (("*" | "/") factor)*
    factor  := ("+" | "-") factor | atom ("^" factor)?
    atom    := NUMBER UNIT? | NAME | NAME "(" formula ("," formula)* ")" | "(" formula ")"

A name is a quantity, else a unit (`2 kN/mm`). Powers of quantities with a unit are numbers written out.
"""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from .errors import BadInput
from .quantities import plain_unit, registry, same_kind
from .signal.sinefit import Floats

_TOKEN = re.compile(r"\s*(?:(\d+(?:\.\d*)?(?:[eE][+-]?\d+)?|\.\d+(?:[eE][+-]?\d+)?)|([A-Za-z_µΩ%°][\w%°²³]*)|(.))")
_SUPERSCRIPTS = str.maketrans({"²": "^2", "³": "^3", "·": "*", "×": "*", "−": "-", "÷": "/"})
DEEPEST, LONGEST = 40, 400
"""Brackets within one another, and characters"""
SHOWN = ("", "Pa", "N/m", "N", "m", "J", "W", "m^2", "m/s", "m/s^2", "s", "Hz", "V", "A", "ohm", "K")
"""Units that a result is put into where it is of that kind and nobody asked for another"""
Node = tuple[Any, ...]


def _first(x: Any) -> Any:
    return x[:1] + 0 * x


def _last(x: Any) -> Any:
    return x[-1:] + 0 * x


FUNCTIONS: dict[str, tuple[int, Callable[..., Any], str]] = {
    "sqrt": (1, lambda x: x**0.5, "root"), "abs": (1, abs, "same"), "exp": (1, np.exp, "number"),
    "ln": (1, np.log, "number"), "lg": (1, np.log10, "number"), "sin": (1, np.sin, "number"),
    "cos": (1, np.cos, "number"), "min": (2, np.minimum, "both"), "max": (2, np.maximum, "both"),
    "first": (1, _first, "same"), "last": (1, _last, "same"),
}  # fmt: skip
"""By name how many quantities it takes, what it does, and which units it takes. first and last: of all rows"""


@dataclass(frozen=True)
class Formula:
    """One that was read and whose units fit."""

    text: str
    names: tuple[str, ...]
    """Quantities that it needs"""
    unit: str
    """of what comes out"""
    units: Mapping[str, str]
    """of the quantities that it may need"""
    tree: Node

    def __call__(self, values: Mapping[str, Floats]) -> Floats:
        """Its values where each quantity has one a row, in `unit`; not finite where it can't be told."""
        rows = max((np.size(values[n]) for n in self.names), default=1)
        ureg = registry()
        held = {n: np.broadcast_to(np.asarray(values[n], float), (rows,)) * _unit(self.units[n]) for n in self.names}
        with np.errstate(all="ignore"):
            found = _value(self.tree, held)
        made = found.to(_unit(self.unit)).magnitude if isinstance(found, ureg.Quantity) else found
        return np.broadcast_to(np.asarray(made, float), (rows,)).copy()


def formula(text: str, units: Mapping[str, str], where: str, unit: str = "") -> Formula:
    """Read a formula over quantities with `units` by name; `unit` for what comes out, a usual one of its kind when
    empty. Raises BadInput, naming `where`, for what can't be read, is not known, or does not go together."""
    import pint

    try:
        tree = _Reader(text, units).whole()
        names = tuple(dict.fromkeys(_names(tree)))
        # 2 and not 1: a difference of two quantities of one size would be nought, and its ratio nothing.
        with np.errstate(all="ignore"):
            found = _value(tree, {n: np.full(2, 2.0 + 0.37 * i) * _unit(units[n]) for i, n in enumerate(names)})
    except pint.DimensionalityError as problem:
        one, other = (_plain(u) or "a number" for u in (problem.units1, problem.units2))
        raise BadInput(f"{where}: {one} and {other} do not go together in '{text}'.") from None
    except BadInput as problem:
        raise BadInput(f"{where}: {problem}") from None
    except (pint.errors.PintError, ArithmeticError, ValueError) as problem:
        raise BadInput(f"{where}: '{text}' can't be computed ({problem}).") from None
    own = _plain(found.units) if isinstance(found, registry().Quantity) else ""
    if unit:
        if not same_kind(own or "m/m", unit):
            raise BadInput(f"{where}: '{text}' gives {own or 'a number'}, which can't be shown in {unit}.")
        return Formula(text, names, unit, dict(units), tree)
    usual = next((u for u in SHOWN if u and own and same_kind(own, u)), "" if same_kind(own or "m/m", "m/m") else own)
    return Formula(text, names, usual, dict(units), tree)


def _unit(unit: str) -> Any:
    return registry().Unit(plain_unit(unit) or "dimensionless")


def _plain(unit: Any) -> str:
    """A unit's name as people write it."""
    text = f"{registry().Unit(unit):~C}".replace("**", "^").replace("kilogram_", "kg")
    return "" if text in ("", "dimensionless") else text


class _Reader:
    """A formula read from left to right, by the grammar above."""

    def __init__(self, text: str, units: Mapping[str, str]) -> None:
        self.text, self.units, self.deep = text, units, 0
        held = [(m.lastindex or 0, m[m.lastindex or 0]) for m in _TOKEN.finditer(text.translate(_SUPERSCRIPTS))]
        self.tokens = [t for t in held if t[1].strip()]
        self.at = 0

    def whole(self) -> Node:
        """All of it. Raises BadInput."""
        if len(self.text) > LONGEST:
            raise BadInput(f"'{self.text[:40]}…' is longer than {LONGEST} characters.")
        if not self.tokens:
            raise BadInput("there is no formula: write one, such as 'force_max / area'.")
        made = self.sum()
        if self.at < len(self.tokens):
            raise BadInput(f"'{self.tokens[self.at][1]}' is not expected in '{self.text}'.")
        return made

    def next_is(self, *signs: str) -> str:
        """The sign that comes next, taken, where it is one of these; else nothing."""
        if self.at < len(self.tokens) and self.tokens[self.at] in [(3, s) for s in signs]:
            self.at += 1
            return self.tokens[self.at - 1][1]
        return ""

    def sum(self) -> Node:
        """formula := term (("+" | "-") term)*"""
        self.deep += 1
        if self.deep > DEEPEST:
            raise BadInput(f"'{self.text[:40]}…' has too many brackets within one another.")
        made = self.product()
        while sign := self.next_is("+", "-"):
            made = (sign, made, self.product())
        self.deep -= 1
        return made

    def product(self) -> Node:
        """term := factor (("*" | "/") factor)*"""
        made = self.factor()
        while sign := self.next_is("*", "/"):
            made = (sign, made, self.factor())
        return made

    def factor(self) -> Node:
        """factor := ("+" | "-") factor | atom ("^" factor)?"""
        signs = 0
        while sign := self.next_is("+", "-"):
            signs += sign == "-"
        made = self.atom()
        if self.next_is("^"):
            made = ("^", made, self.factor())
        return ("neg", made) if signs % 2 else made

    def atom(self) -> Node:
        """A number with or without a unit, a name, or a bracket."""
        if self.next_is("("):
            made = self.sum()
            if not self.next_is(")"):
                raise BadInput(f"a bracket is not closed in '{self.text}'.")
            return made
        if self.at >= len(self.tokens):
            raise BadInput(f"'{self.text}' ends too soon.")
        kind, token = self.tokens[self.at]
        self.at += 1
        if kind == 1:
            number: Node = ("number", float(token))
            named = self.at < len(self.tokens) and self.tokens[self.at][0] == 2
            return ("*", number, self.name()) if named else number
        if kind == 2:
            self.at -= 1
            return self.name()
        raise BadInput(f"'{token}' is not expected in '{self.text}'.")

    def name(self) -> Node:
        """A quantity, a function of some, or a unit."""
        name = self.tokens[self.at][1]
        self.at += 1
        if name in self.units:
            return ("name", name)
        if name in FUNCTIONS and self.next_is("("):
            given = [self.sum()]
            while self.next_is(","):
                given.append(self.sum())
            if not self.next_is(")"):
                raise BadInput(f"a bracket is not closed in '{self.text}'.")
            if len(given) != FUNCTIONS[name][0]:
                raise BadInput(f"{name} takes {FUNCTIONS[name][0]} of them, not {len(given)}.")
            return ("call", name, *given)
        try:
            _unit(name)
        except Exception:
            near = difflib.get_close_matches(name, [*self.units, *FUNCTIONS], 1, 0.5)
            meant = f"; did you mean '{near[0]}'?" if near else f": it knows {', '.join(self.units)}."
            raise BadInput(f"'{name}' is not known{meant}") from None
        if self.next_is("^"):  # mm^2
            return ("^", ("unit", name), self.factor())
        return ("unit", name)


def _names(node: Node) -> list[str]:
    if node[0] == "name":
        return [node[1]]
    return [n for part in node[1:] if isinstance(part, tuple) for n in _names(part)]


def _value(node: Node, held: Mapping[str, Any]) -> Any:
    ureg = registry()
    kind = node[0]
    if kind == "number":
        return ureg.Quantity(node[1])
    if kind == "name":
        return held[node[1]]
    if kind == "unit":
        return ureg.Quantity(1.0, _unit(node[1]))
    if kind == "neg":
        return -_value(node[1], held)
    if kind == "call":
        _, act, takes = FUNCTIONS[node[1]]
        given = [_value(part, held) for part in node[2:]]
        if takes == "number":
            return ureg.Quantity(act(np.asarray(given[0].to("dimensionless").magnitude, float)))
        if takes == "both":
            other = given[1].to(given[0].units).magnitude
            return ureg.Quantity(act(given[0].magnitude, other), given[0].units)
        if node[1] in ("first", "last"):
            rows = np.atleast_1d(given[0].magnitude)
            return ureg.Quantity(act(rows), given[0].units)
        return act(given[0])
    one, other = _value(node[1], held), _value(node[2], held)
    if kind == "^":
        if not other.dimensionless:
            raise BadInput("a power must be a number.")
        power = np.asarray(other.to("dimensionless").magnitude, float)
        if one.dimensionless:
            return ureg.Quantity(np.asarray(one.to("dimensionless").magnitude, float) ** power)
        if power.size != 1:
            raise BadInput("a quantity with a unit takes a power that is written out, such as ^2.")
        return one ** float(power)
    return {"+": lambda: one + other, "-": lambda: one - other, "*": lambda: one * other,
            "/": lambda: one / other}[kind]()  # fmt: skip
