"""Domains and methods by name, found through entry points and imported when asked for."""

from __future__ import annotations

import difflib
import importlib
from functools import cache
from importlib.metadata import entry_points
from typing import Any

from ..core.errors import BadInput
from .check import Sense
from .domain import GROUP, Domain
from .guard import GuardKind
from .method import Method
from .paper import PaperKind


@cache
def domains() -> tuple[Domain, ...]:
    """Every domain that is installed, by name. One that can't be loaded, or says what another says, is left out: a
    broken package must not keep the bench from its work. `broken` says which."""
    made: dict[str, Domain] = {}
    taken: set[str] = set()
    for point in sorted(entry_points(group=GROUP), key=lambda p: (not p.value.startswith("lucid_anvil."), p.name)):
        if point.name in made:
            continue
        try:
            one = point.load()
        except Exception as problem:
            _broken[point.name] = f"{point.value} can't be loaded ({type(problem).__name__}: {problem})"
            continue
        if not isinstance(one, Domain) or taken & set(one.methods):
            _broken[point.name] = f"{point.value} is no domain, or names a method that is there already"
            continue
        made[point.name] = one
        taken |= set(one.methods)
    return tuple(made[name] for name in sorted(made))


_broken: dict[str, str] = {}


def broken() -> dict[str, str]:
    """Why domains that are installed are not there, by the name of their entry point."""
    domains()
    return dict(_broken)


def modules() -> dict[str, str]:
    """The module of every method by the method's name."""
    return {name: module for one in domains() for name, module in one.methods.items()}


def names() -> list[str]:
    return sorted(modules())


def domain_of(name: str) -> Domain:
    """The domain that a method belongs to. Raises BadInput with the nearest known method."""
    for one in domains():
        if name in one.methods:
            return one
    known = names()
    near = difflib.get_close_matches(name, known, 1, 0.3)
    hint = f"did you mean '{near[0]}'?" if near else f"there are {', '.join(known)}."
    raise BadInput(f"There is no method '{name}'; {hint}")


def get(name: str) -> Method:
    """The method of that name. Raises BadInput with the nearest known name."""
    made: Method = importlib.import_module(domain_of(name).methods[name]).METHOD
    return made


def guard_kinds() -> tuple[str, ...]:
    """Names of the kinds of guards that domains bring along."""
    return tuple(sorted(name for one in domains() for name in one.guards))


def guard_kind(name: str) -> GuardKind:
    """The kind of guard of that name. Raises BadInput."""
    made = _brought("guards", name, "kind of guard")
    if not isinstance(made, GuardKind):
        raise BadInput(f"The guard '{name}' can't be used: what its package names is no kind of guard.")
    return made


def check_kinds() -> tuple[str, ...]:
    """What checks of the walk-round sense that domains bring along."""
    return tuple(sorted(name for one in domains() for name in one.checks))


def check_kind(name: str) -> Sense:
    """How such a check senses. Raises BadInput."""
    made: Sense = _brought("checks", name, "check")
    return made


def channel_kinds() -> dict[str, str]:
    """Unit of what is measured by each kind of input that domains bring along."""
    return {kind: unit for one in domains() for kind, unit in one.channels.items()}


def scene_kinds() -> tuple[str, ...]:
    """Kinds of stand-in scenes that domains bring along."""
    return tuple(sorted(name for one in domains() for name in one.scenes))


def fault_kinds() -> tuple[str, ...]:
    """Kinds of a stand-in's faults that domains bring along."""
    return tuple(sorted({name for one in domains() for name in one.faults}))


def scene_kind(name: str) -> Any:
    """The model of that kind of scene. Raises BadInput."""
    return _brought("scenes", name, "stand-in scene")


def paper(method: str) -> PaperKind | None:
    """The paper that its domain has for findings of that method; None where a test report is made of them."""
    if not any(method in one.papers for one in domains()):
        return None
    made: PaperKind = _brought("papers", method, "paper")
    return made


def sides() -> list[Any]:
    """What domains show on the Bench, as classes. Loads the window's toolkit. One that can't be loaded is left out, and
    its methods are drawn from their views; `broken` says why."""
    return _loaded([(one.name, place) for one in domains() for place in one.sides])


def demos() -> list[Any]:
    """What lays each domain's part of the demo job, as functions of the lab. One that can't be loaded is left out;
    `broken` says why."""
    return _loaded([(one.name, one.demo) for one in domains() if one.demo])


def _loaded(places: list[tuple[str, str]]) -> list[Any]:
    """What stands at "module:name", by domain."""
    made = []
    for name, place in places:
        module, _, attribute = place.partition(":")
        try:
            made.append(getattr(importlib.import_module(module), attribute))
        except Exception as problem:
            _broken[name] = f"{place} can't be loaded ({type(problem).__name__}: {problem})"
    return made


def _brought(what: str, name: str, words: str) -> Any:
    for one in domains():
        place = getattr(one, what).get(name)
        if place is not None:
            module, _, attribute = place.partition(":")
            return getattr(importlib.import_module(module), attribute)
    raise BadInput(f"There is no {words} '{name}': the package that brought it may be missing.")
