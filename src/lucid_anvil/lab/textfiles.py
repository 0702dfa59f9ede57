"""YAML that people write: read with its place in the file, checked against a model, mistakes said in one line."""

from __future__ import annotations

import difflib
import os
from collections.abc import Callable
from pathlib import Path
from typing import Annotated, Any, TypeVar

from pydantic import BaseModel, BeforeValidator, ConfigDict, ValidationError

from ..core.errors import BadInput
from ..core.quantities import parse


class Model(BaseModel):
    """A model that takes no unknown key."""

    model_config = ConfigDict(extra="forbid", arbitrary_types_allowed=True)


def quantity(unit: str) -> BeforeValidator:
    """For `Annotated[float, quantity(unit)]`: given as text with a unit, or as a bare number in `unit`."""
    return BeforeValidator(lambda v: parse(v, unit), json_schema_input_type=float | str)


def _flag(value: Any) -> Any:
    if isinstance(value, str) and value.lower() in ("on", "off", "yes", "no", "true", "false"):
        return value.lower() in ("on", "yes", "true")
    return value


Flag = Annotated[bool, BeforeValidator(_flag)]
M = TypeVar("M", bound=BaseModel)


def load_yaml(path: Path) -> Any:
    """The plain data of a YAML file. Raises BadInput with line and column."""
    from ruamel.yaml import YAML
    from ruamel.yaml.error import MarkedYAMLError, YAMLError

    if not path.exists():
        raise BadInput(f"{path}: there is no such file.")
    try:
        text = path.read_text(encoding="utf-8")
    except (UnicodeDecodeError, OSError):
        raise BadInput(f"{path}: it can't be read as UTF-8 text.") from None
    return parse_yaml(text, str(path), YAML, (MarkedYAMLError, YAMLError))


def parse_yaml(text: str, source: str, yaml_class: Callable[..., Any] | None = None, errors: Any = None) -> Any:
    if yaml_class is None:
        from ruamel.yaml import YAML as yaml_class  # noqa: N811
        from ruamel.yaml.error import MarkedYAMLError, YAMLError

        errors = (MarkedYAMLError, YAMLError)
    assert yaml_class is not None
    try:
        data = yaml_class(typ="safe", pure=True).load(text)
        if not _small(data):
            raise BadInput(f"{source}: its anchors unfold to more than {MOST} values: write them out.")
        return data
    except RecursionError:
        raise BadInput(f"{source}: it is nested too deep to be read: a few levels are all that is needed.") from None
    except errors as problem:
        mark = getattr(problem, "problem_mark", None)
        place = f", line {mark.line + 1}, column {mark.column + 1}" if mark else ""
        what = str(getattr(problem, "problem", None) or problem).splitlines()[0]
        raise BadInput(f"{source}{place}: this is not YAML ({what}): mend that line.") from None


MOST = 2_000_000
"""Values that a file may hold, anchors unfolded"""


def _small(data: Any) -> bool:
    """Whether it holds no more than `MOST` values when every alias is written out."""
    known: dict[int, int] = {}

    def size(one: Any) -> int:
        if not isinstance(one, (dict, list)):
            return 1
        if id(one) not in known:
            known[id(one)] = MOST + 1  # one that holds itself never ends
            inner = one.values() if isinstance(one, dict) else one
            total = 1
            for v in inner:
                total += size(v)
                if total > MOST:
                    break
            known[id(one)] = total
        return known[id(one)]

    return size(data) <= MOST


def dump_yaml(data: Any) -> str:
    import io

    from ruamel.yaml import YAML

    writer = YAML(typ="safe", pure=True)
    writer.default_flow_style = None
    writer.width = 110
    writer.sort_base_mapping_type_on_output = False  # type: ignore[assignment]
    out = io.StringIO()
    writer.dump(data, out)
    return out.getvalue()


def whole_write(place: Path, text: str) -> None:
    """Written beside, put on disk, then renamed: whole or not there."""
    part = place.with_name(place.name + ".part")
    with part.open("w", encoding="utf-8") as file:
        file.write(text)
        file.flush()
        os.fsync(file.fileno())
    os.replace(part, place)


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
