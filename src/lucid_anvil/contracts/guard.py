"""What a kind of guard is that a domain brings along: it looks at the inputs block by block, in the guards' process."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from .recording import Floats


@dataclass(frozen=True)
class Watched:
    """What a guard knows of the bench that it watches."""

    kinds: Mapping[str, str]
    """Kind of every input by its role"""
    rate: float
    """Hz"""
    block: int
    """samples"""
    control: Mapping[str, Any] = field(default_factory=dict)
    """What the method said of itself, as `Method.guarded` gives it"""
    limits: Mapping[str, float] = field(default_factory=dict)
    """Of what drives, as `Facts.limits` has them [SI]"""
    channel: str | None = None
    """The role that it is about, where one is named"""


@dataclass(frozen=True)
class Sight:
    """What a guard makes of one block."""

    used: float
    """Share of its limit; from 1 on it acts"""
    value: float
    """In the guard's unit"""
    channel: str | None = None
    """What it is about"""
    said: str | None = None
    """What is wrong, where a number would not say it"""


@dataclass(frozen=True)
class Block:
    """What a guard looks at, once a block."""

    channels: Mapping[str, Floats]
    """Inputs by role, in their own units"""
    t: float
    """s of its first sample"""
    instruments: Mapping[str, Any] | None = None
    """What the instruments last showed"""
    drive: Floats | None = None
    """V, what the source played in it"""


Look = Callable[[Block], Sight]


@dataclass(frozen=True)
class GuardKind:
    """One kind of guard. It is made anew for every run by `begin`, with its limit in `unit`; it computes only, since
    the drive waits for it."""

    name: str
    label: str
    """As faces call it"""
    unit: str
    begin: Callable[[Watched, float], Look]
    needs: tuple[str, ...] = ()
    """Kinds of inputs that it can't do without"""
    usual: float = float("inf")
    """Limit where none is given"""
