"""A walk-round as lines of text: what is sensed keeps its sense, what is new is signed by a person."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from ..core.errors import BadInput
from .patterns import slug

MARK = "sensed: "


def as_text(checks: Sequence[Mapping[str, Any]]) -> str:
    """A line a check; those that the program senses begin with a mark."""
    return "\n".join((MARK if c.get("sense") else "") + str(c["text"]) for c in checks)


def from_text(text: str, before: Sequence[Mapping[str, Any]]) -> list[dict[str, Any]]:
    """Checks from lines: one whose words stood there before is that check, in its new place; a sensed one that is
    reworded keeps its sense where its order among the sensed ones says which it is. Raises BadInput."""
    lines = [line.strip() for line in text.splitlines() if line.strip()]
    if not lines:
        raise BadInput("A walk-round needs a line at least: what is looked at before anything is driven.")
    known = {str(c["text"]): dict(c) for c in before}
    words = [line.removeprefix(MARK).strip() for line in lines]
    left = [dict(c) for c in before if c.get("sense") and str(c["text"]) not in words]
    made: list[dict[str, Any]] = []
    for line, told in zip(lines, words, strict=True):
        if told in known:
            made.append(known[told])
        elif line.startswith(MARK):
            if not left:
                raise BadInput(f"'{told}': nothing more is sensed on this bench: leave the mark out, and it is signed.")
            made.append({**left.pop(0), "text": told})
        else:
            made.append({"key": _free(told, made, before), "text": told})
    keys = [c["key"] for c in made]
    if len(set(keys)) != len(keys):
        raise BadInput("A line stands there twice: leave one out.")
    return made


def with_photo(checks: Sequence[Mapping[str, Any]], key: str, photo: str | None) -> list[dict[str, Any]]:
    """The checks, one of them with a photo, or with none."""
    made = []
    for check in checks:
        held = {k: v for k, v in check.items() if k != "photo" or check["key"] != key}
        if check["key"] == key and photo is not None:
            held["photo"] = photo
        made.append(held)
    return made


def _free(text: str, made: Sequence[Mapping[str, Any]], before: Sequence[Mapping[str, Any]]) -> str:
    taken = {c["key"] for c in (*made, *before)}
    base = slug(text)[:30].strip("-")
    return next(n for n in (base, *(f"{base}-{k}" for k in range(2, 1000))) if n not in taken)
