"""Changing a plan as a text: one setting in its place, all else, comments included, as the person left it."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from ..core.errors import BadInput
from .textfiles import dump_yaml, load_yaml, parse_yaml, whole_write

NOTHING = object()
"""For `put`: take the setting away, so that the usual value holds"""


def typed(text: str) -> Any:
    """What a person typed as a value: a number, a quantity, a list or a table in YAML. Raises BadInput."""
    held = text.strip()
    return NOTHING if not held else parse_yaml(held, "what was typed")


def shown(value: Any) -> str:
    """A plan's value as a person would type it."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "on" if value else "off"
    if isinstance(value, (dict, list)):
        import io

        from ruamel.yaml import YAML

        writer, out = YAML(typ="safe", pure=True), io.StringIO()
        writer.default_flow_style = True
        writer.sort_base_mapping_type_on_output = False  # type: ignore[assignment]
        writer.width = 10000
        writer.dump(value, out)
        return out.getvalue().strip().removesuffix("...").strip()
    return str(int(value)) if isinstance(value, float) and value.is_integer() and abs(value) < 1e9 else str(value)


def written(value: Any) -> str:
    """A value as it stands in a file: text that would be read as something else stands in quotes."""
    text = shown(value)
    if not isinstance(value, str):
        return text
    try:
        plain = "\n" not in value and parse_yaml(f"a: {text}", "text") == {"a": value}
    except BadInput:
        plain = False
    return text if plain else json.dumps(value, ensure_ascii=False)


def put(place: Path, path: Sequence[str], value: Any, step: int = 0) -> None:
    """Set a step's setting in a plan file, whole or not at all. A profile that stands in a file of its own is changed
    there. Raises BadInput for a file that can't be read, or a path that leads through a value."""
    plan = load_yaml(place)  # the same words as everywhere for what is no YAML
    root = _root(plan, step)
    first = (settings_in(plan, step)).get(path[0])
    if path and path[0] == "profile" and isinstance(first, str):
        file = Path(first) if Path(first).is_absolute() else place.parent / first
        if len(path) == 1:
            raise BadInput(f"{place}: the profile stands in {first}: change its parts there.")
        _put(file, path[1:], value)
        return
    if root == ("sheet",) and path[0] == "steps":
        raise BadInput(f"{place}: the steps of a sheet are changed one by one, on the sheet itself.")
    _put(place, (*root, *path), value)


def _root(plan: Any, step: int) -> tuple[str | int, ...]:
    """Where in a plan the settings of a step stand; those that an amplifier's steps share stand under `sheet`."""
    steps = plan.get("steps") or [{}]
    if str(steps[0].get("method", "")).startswith("output-"):
        return ("sheet",)
    return ("steps", step, "settings")


def settings_in(plan: Any, step: int = 0) -> dict[str, Any]:
    """What a plan's plain data say of a step's settings."""
    at = plan
    for key in _root(plan, step):
        at = (at.get(key) if isinstance(at, dict) else at[key]) or {}
    return dict(at)


def put_in(file: Path, path: Sequence[str | int], value: Any) -> None:
    """Set one value anywhere in a YAML file, whole or not at all. Raises BadInput as `put` does."""
    _put(file, path, value)


def put_rows(file: Path, path: Sequence[str | int], rows: Sequence[Any]) -> None:
    """Set the list at a path, a line a row: a row that was there keeps its text and comments, wherever it goes.
    Raises BadInput."""
    text = file.read_text(encoding="utf-8")
    wanted = _applied(load_yaml(file), path, list(rows), file)
    pair = _pair_at(text, path)
    if pair is None or not isinstance(pair[1].value, list) or getattr(pair[1], "flow_style", True) or not rows:
        _put(file, path, list(rows))
        return
    made = _rows_spliced(text, pair[1], _at(load_yaml(file), path), rows)
    if parse_yaml(made, str(file)) != wanted:
        raise BadInput(f"{file}: {path[-1]} can't be changed in its text: write it plainly first.")
    whole_write(file, made)


def sync(file: Path, wanted: Any) -> None:
    """Make a file say `wanted`, changing the text only where it says something else; what can't be put in its place is
    written anew, without the comments that stood there."""
    if not isinstance(load_yaml(file), dict) or not isinstance(wanted, dict):
        whole_write(file, dump_yaml(wanted))
        return
    before = file.read_text(encoding="utf-8")
    try:
        _sync(file, (), wanted)
        if load_yaml(file) == wanted:
            return
    except BadInput:
        pass
    whole_write(file, before)
    whole_write(file, dump_yaml(wanted))


def _sync(file: Path, path: tuple[str | int, ...], wanted: Mapping[str, Any]) -> None:
    held = _at(load_yaml(file), path)
    for key in [k for k in held if k not in wanted]:
        _put(file, (*path, key), NOTHING)
    for key, value in wanted.items():
        now, here = held.get(key), (*path, key)
        if key in held and now == value and type(now) is type(value):
            continue
        if isinstance(value, dict) and isinstance(now, dict) and now:
            _sync(file, here, value)
        elif isinstance(value, list) and isinstance(now, list) and now:
            if _in_place(now, value):
                for i, one in enumerate(value):
                    if one != now[i]:
                        _sync(file, (*here, i), one)
            else:
                put_rows(file, here, value)
        else:
            _put(file, here, value)


def _in_place(now: Sequence[Any], wanted: Sequence[Any]) -> bool:
    """Whether rows of a list were changed where they stand, none of them moved."""
    if len(now) != len(wanted) or not all(isinstance(r, dict) and r for r in (*now, *wanted)):
        return False
    return not any(w != n and w in now for w, n in zip(wanted, now, strict=True))


def _at(data: Any, path: Sequence[str | int]) -> Any:
    for key in path:
        data = data[key]
    return data


def _pair_at(text: str, path: Sequence[str | int]) -> Any:
    """The key and value nodes at a path; None where there are none."""
    from ruamel.yaml import YAML
    from ruamel.yaml.nodes import MappingNode, SequenceNode

    at: Any = YAML().compose(text)
    pair = None
    for key in path:
        if isinstance(at, SequenceNode) and isinstance(key, int) and key < len(at.value):
            pair, at = None, at.value[key]
        elif isinstance(at, MappingNode):
            pair = next(((k, v) for k, v in at.value if k.value == key), None)
            if pair is None:
                return None
            at = pair[1]
        else:
            return None
    return pair


def _rows_spliced(text: str, node: Any, held: Sequence[Any], rows: Sequence[Any]) -> str:
    """The text with other rows in a block sequence."""
    lines = text.splitlines(keepends=True)
    kept: list[tuple[Any, str]] = []
    first = node.value[0].start_mark.line
    while first > 0 and lines[first - 1].lstrip().startswith("#"):
        first -= 1  # what is written above a row goes with it
    last = first
    for i, one in enumerate(node.value):
        begin, last = last, text.count("\n", 0, max(_end(one) - 1, 0)) + 1
        kept.append((held[i], "".join(lines[begin:last]).rstrip("\n") + "\n"))
    line = lines[node.value[0].start_mark.line]
    indent = line[: len(line) - len(line.lstrip())]
    body = ""
    for row in rows:
        at = next((i for i, (was, _) in enumerate(kept) if was == row), None)
        body += f"{indent}- {written(row)}\n" if at is None else kept.pop(at)[1]
    return "".join(lines[:first]) + body + "".join(lines[last:])


def _put(file: Path, path: Sequence[str | int], value: Any) -> None:
    value = {True: "on", False: "off"}[value] if isinstance(value, bool) else value
    text = file.read_text(encoding="utf-8")
    wanted = _applied(load_yaml(file), path, value, file)
    made = _spliced(text, path, value)
    if parse_yaml(made, str(file)) != wanted:
        raise BadInput(f"{file}: {'.'.join(map(str, path))} can't be changed in its text: write it plainly first.")
    whole_write(file, made)


def _applied(data: Any, path: Sequence[str | int], value: Any, file: Path) -> Any:
    """What the plain data must be afterwards."""
    at = data
    for key in path[:-1]:
        if isinstance(at, dict) and at.get(key) is None:
            at[key] = {}
        try:
            at = at[key]
        except (KeyError, IndexError, TypeError):
            at = None
    if not isinstance(at, dict):
        raise BadInput(f"{file}: there is no place for {'.'.join(map(str, path))}: mend the file.")
    if value is NOTHING:
        at.pop(path[-1], None)
    else:
        at[path[-1]] = value
    return data


def _spliced(text: str, path: Sequence[str | int], value: Any) -> str:
    """The text with one value put in, by the marks of its nodes: not a blank elsewhere is touched."""
    from ruamel.yaml import YAML
    from ruamel.yaml.nodes import MappingNode, SequenceNode

    at: Any = YAML().compose(text)
    for depth, key in enumerate(path):
        if isinstance(at, SequenceNode) and isinstance(key, int):
            at = at.value[key]
            continue
        if not isinstance(at, MappingNode):  # nothing there yet
            return text if value is NOTHING else _replaced(text, at, _nested(path[depth:], value))
        pair = next(((k, v) for k, v in at.value if k.value == key), None)
        if pair is None:
            return text if value is NOTHING else _added(text, at, str(key), _nested(path[depth + 1 :], value))
        if depth == len(path) - 1:
            return _without(text, at, pair) if value is NOTHING else _replaced(text, pair[1], value)
        at = pair[1]
    return text


def _nested(path: Sequence[str | int], value: Any) -> Any:
    for key in reversed(path):
        value = {key: value}
    return value


def _end(node: Any) -> int:
    """Where a node's own text ends; a block's mark stands where the next thing begins."""
    if getattr(node, "flow_style", True) or not isinstance(node.value, list) or not node.value:
        return int(node.end_mark.index)
    last = node.value[-1]
    return _end(last[1] if isinstance(last, tuple) else last)


def _replaced(text: str, node: Any, value: Any) -> str:
    start, end, new = int(node.start_mark.index), _end(node), written(value)
    if isinstance(node.value, list) and not node.flow_style:
        start = len(text[:start].rstrip())  # a block begins on a line of its own
    gap = "" if text[:start].endswith((" ", "\n")) else " "
    return text[:start] + gap + new + text[end:]


def _added(text: str, node: Any, key: str, value: Any) -> str:
    new = f"{key}: {written(value)}"
    if node.flow_style:
        at = len(text[: int(node.end_mark.index) - 1].rstrip())
        return text[:at] + (", " if node.value else "") + new + text[at:]
    line = text.find("\n", _end(node))
    line = len(text) if line < 0 else line
    return text[:line] + "\n" + " " * node.value[0][0].start_mark.column + new + text[line:]


def _without(text: str, node: Any, pair: Any) -> str:
    begin, end = int(pair[0].start_mark.index), _end(pair[1])
    if node.flow_style:
        rest = text[end:].lstrip()
        if rest.startswith(","):
            return text[:begin] + rest[1:].lstrip()
        return text[:begin].rstrip().removesuffix(",") + text[end:]
    if len(node.value) == 1:  # the last one: an empty table stays
        return text[:begin] + "{}" + text[end:]
    first = text.rfind("\n", 0, begin) + 1
    line = text.find("\n", end)
    return text[:first] + text[len(text) if line < 0 else line + 1 :]
