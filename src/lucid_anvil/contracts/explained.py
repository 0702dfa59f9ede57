"""The settings of any method in words, from its own declaration: what can be set, in which unit, what is usual."""

from __future__ import annotations

import ast
import inspect
import textwrap
import types
import typing
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cache
from typing import Any

from pydantic import BaseModel
from pydantic.fields import FieldInfo

from .method import MethodSettings
from .settings import Quantity, _flag

RARE = (*MethodSettings.model_fields, "budget", "capability", "resolution", "levels", "drive_gain", "sensitivity")
"""Settings that the bench usually fills in, or that few people touch: shown when asked for"""


@dataclass(frozen=True)
class Setting:
    """One setting, wherever it stands in its method's model."""

    path: tuple[str, ...]
    kind: str
    """quantity, number, count, flag, choice, text, or data: a list or a table, written as YAML"""
    unit: str = ""
    usual: Any = None
    needed: bool = False
    """Whether there is no usual value"""
    choices: tuple[str, ...] = ()
    meaning: str = ""
    rare: bool = False
    columns: tuple[str, ...] = ()
    """Of a list of rows, such as steps"""

    @property
    def key(self) -> str:
        return ".".join(self.path)

    @property
    def name(self) -> str:
        """The last part of its path in words."""
        words = self.path[-1].replace("_", " ")
        return words[:1].upper() + words[1:]


def explained(model: type[BaseModel], path: tuple[str, ...] = ()) -> list[Setting]:
    """Every setting of a model; those of a model within it follow it, with their path."""
    made: list[Setting] = []
    meanings = _meanings(model)
    for name, field in _own_first(model):
        here = (*path, field.alias or name)
        inner = _model_of(field.annotation)
        if inner is not None:
            made += explained(inner, here)
            continue
        kind, unit, choices = _kind(field)
        made.append(Setting(
            here, kind, unit, None if field.is_required() else field.get_default(call_default_factory=True),
            field.is_required(), choices, _sentence(meanings.get(name, ""), unit), here[0] in RARE,
            _columns(field.annotation),
        ))  # fmt: skip
    return made


def _own_first(model: type[BaseModel]) -> list[tuple[str, FieldInfo]]:
    """Needed fields first, then those that a model adds itself, then what it shares with others."""
    shared: set[str] = set()
    for base in model.__mro__[1:]:
        shared |= set(getattr(base, "model_fields", ()))
    return sorted(model.model_fields.items(), key=lambda f: (not f[1].is_required(), f[0] in shared))


def value_at(settings: Any, path: Sequence[str]) -> Any:
    """What a plan's plain settings say at a path; None where they say nothing."""
    for key in path:
        if not isinstance(settings, dict) or key not in settings:
            return None
        settings = settings[key]
    return settings


def _sentence(said: str, unit: str) -> str:
    """A field's own words as they stand beside its editor, where the unit stands already."""
    for begin in (f"{unit}, ", f"{unit}; "):
        said = said.removeprefix(begin) if unit else said
    first = said.split(" ")[0]
    ours = not first.isalpha() or first == unit or (len(first) < 2 and first != "a")
    return said if ours else said[:1].upper() + said[1:]


def _parts(annotation: Any) -> Iterator[Any]:
    """The alternatives of an annotation, nothing left out but None; with what is annotated to each."""
    origin = typing.get_origin(annotation)
    if origin is typing.Annotated:
        inner, *more = typing.get_args(annotation)
        yield from more
        yield from _parts(inner)
    elif origin in (typing.Union, types.UnionType):
        for one in typing.get_args(annotation):
            yield from _parts(one)
    elif annotation is not type(None):
        yield annotation


def _model_of(annotation: Any) -> type[BaseModel] | None:
    for one in _parts(annotation):
        if isinstance(one, type) and issubclass(one, BaseModel):
            return one
    return None


def _columns(annotation: Any) -> tuple[str, ...]:
    """Keys of the rows, where a setting is a list of them."""
    for one in _parts(annotation):
        if typing.get_origin(one) is list:
            row = next(iter(typing.get_args(one)), None)
            if isinstance(row, type) and issubclass(row, BaseModel):
                return tuple(f.alias or name for name, f in row.model_fields.items())
    return ()


def _kind(field: FieldInfo) -> tuple[str, str, tuple[str, ...]]:
    parts = [*field.metadata, *_parts(field.annotation)]
    unit = next((p.unit for p in parts if isinstance(p, Quantity)), None)
    if unit is not None:
        return "quantity", unit, ()
    if any(getattr(p, "func", None) is _flag for p in parts) or bool in parts:
        return "flag", "", ()
    for one in parts:
        if typing.get_origin(one) is typing.Literal:
            return "choice", "", tuple(str(a) for a in typing.get_args(one))
    types_ = [p for p in parts if isinstance(p, type)]
    if types_ == [int]:
        return "count", "", ()
    if types_ == [float]:
        return "number", "", ()
    if types_ == [str]:
        return "text", "", ()
    return "data", "", ()


@cache
def _meanings(model: type[BaseModel]) -> dict[str, str]:
    """What the string below each field says, its own class before those that it derives from."""
    made: dict[str, str] = {}
    for one in reversed(model.__mro__):
        if not (isinstance(one, type) and issubclass(one, BaseModel)) or one is BaseModel:
            continue
        try:
            tree = ast.parse(textwrap.dedent(inspect.getsource(one)))
        except (OSError, TypeError, SyntaxError):
            continue
        body = typing.cast(ast.ClassDef, tree.body[0]).body
        for field, below in zip(body, body[1:], strict=False):
            match field, below:
                case ast.AnnAssign(target=ast.Name(id=name)), ast.Expr(value=ast.Constant(value=str(said))):
                    made[name] = " ".join(said.split())
    return made
