"""Settings: models that take no unknown key, quantities with their units, and mistakes said in one line."""

from __future__ import annotations

import difflib
from dataclasses import dataclass
from typing import Annotated, Any, TypeVar

from pydantic import BaseModel, BeforeValidator, ConfigDict, ValidationError

from ..core.errors import BadInput
from ..core.quantities import parse


class Model(BaseModel):
    """A model that takes no unknown key."""

    model_config = ConfigDict(extra="forbid", arbitrary_types_allowed=True)


@dataclass(frozen=True, slots=True)
class Quantity(BeforeValidator):
    """A quantity's unit, so that whoever shows the setting knows it."""

    unit: str = ""


def quantity(unit: str) -> BeforeValidator:
    """For `Annotated[float, quantity(unit)]`: given as text with a unit, or as a bare number in `unit`."""
    return Quantity(lambda v: parse(v, unit), json_schema_input_type=float | str, unit=unit)


Seconds = Annotated[float, quantity("s")]


def _flag(value: Any) -> Any:
    if isinstance(value, str) and value.lower() in ("on", "off", "yes", "no", "true", "false"):
        return value.lower() in ("on", "yes", "true")
    return value


Flag = Annotated[bool, BeforeValidator(_flag)]
M = TypeVar("M", bound=BaseModel)


def check(model: type[M], data: Any, source: str) -> M:
    """Validate plain data; the first mistake becomes one BadInput sentence, with the nearest known key."""
    if data is None:
        data = {}
    if not isinstance(data, dict):
        raise BadInput(f"{source}: keys and values are wanted here, like 'key: value'.")
    try:
        return model.model_validate(data)
    except ValidationError as problem:
        # A mistyped key says more than the key that is missing because of it.
        errors = sorted(problem.errors(), key=lambda e: e["type"] != "extra_forbidden")
        raise BadInput(f"{source}: {_sentence(model, errors[0])}") from None


def _sentence(model: type[BaseModel], error: Any) -> str:
    where = ".".join(str(part) for part in error["loc"])
    if error["type"] == "extra_forbidden":
        key = str(error["loc"][-1])
        known = _keys_at(model, error["loc"][:-1])
        near = difflib.get_close_matches(key, known, 1, 0.4)
        hint = f"did you mean '{near[0]}'?" if near else f"known here: {', '.join(known)}."
        return f"the key '{where}' is not known; {hint}"
    if error["type"] == "missing":
        return f"'{where}' is missing: give it a value."
    message = error["msg"].removeprefix("Value error, ")
    return f"'{where}': {message}" if where else message


def _keys_at(model: type[BaseModel], place: tuple[Any, ...]) -> list[str]:
    """Keys that the model knows at a place, found by walking its annotations."""
    import typing

    at: Any = model
    for part in place:
        if isinstance(at, type) and issubclass(at, BaseModel) and part in at.model_fields:
            at = at.model_fields[part].annotation
        stack, found = [at], None
        while stack:
            one = stack.pop()
            if isinstance(one, type) and issubclass(one, BaseModel):
                found = one
                break
            stack.extend(typing.get_args(one))
        at = found or at
    if isinstance(at, type) and issubclass(at, BaseModel):
        return [f.alias or name for name, f in at.model_fields.items()]
    return []
