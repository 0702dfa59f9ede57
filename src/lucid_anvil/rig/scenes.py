"""What happens on a bench of stand-ins, as its rig file says: domains bring the kinds of scenes along."""

from __future__ import annotations

from typing import Any

from ..contracts.registry import scene_kind, scene_kinds
from ..contracts.settings import Model, check


def scene_from(held: Any) -> Model:
    """The scene that a rig file gives. Raises ValueError with the cure."""
    kind = held.get("kind") if isinstance(held, dict) else None
    known = scene_kinds()
    if kind not in known:
        raise ValueError(f"there is no scene '{kind}'; its kind is one of {', '.join(known)}.")
    model: type[Model] = scene_kind(kind)
    return check(model, held, "scene")
