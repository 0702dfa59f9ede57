"""YAML that people write: read with its place in the file, written whole or not at all."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

from ..core.errors import BadInput


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
