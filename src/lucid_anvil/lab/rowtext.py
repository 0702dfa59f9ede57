"""Lists of rows as a text that goes to a spreadsheet and comes back from it: a heading, then a line a row."""

from __future__ import annotations

import difflib
from collections.abc import Sequence
from typing import Any

from ..core.errors import BadInput
from .editing import shown
from .textfiles import parse_yaml


def as_text(rows: Sequence[Any] | None, columns: Sequence[str]) -> str:
    """Rows with tabs between their cells; columns that no row uses are left out, the first four are not."""
    held = [r for r in rows or () if isinstance(r, dict)]
    used = [c for i, c in enumerate(columns) if i < 4 or any(c in r for r in held)]
    lines = ["\t".join(used)]
    lines += ["\t".join(shown(r.get(c)) for c in used) for r in held]
    return "\n".join(lines)


def from_text(text: str, columns: Sequence[str]) -> list[dict[str, Any]]:
    """The rows of a pasted table: cells parted by tabs, semicolons or commas; a unit in the heading goes to every cell
    of its column. Raises BadInput naming the line."""
    lines = [(i, line) for i, line in enumerate(text.splitlines(), start=1) if line.strip()]
    if not lines:
        return []
    first = lines[0][1]
    mark = next((m for m in ("\t", ";") if m in first), ",")
    heads = [_head(cell, columns) for cell in first.split(mark)]
    made = []
    for number, line in lines[1:]:
        cells = [c.strip() for c in line.split(mark)]
        if len(cells) > len(heads):
            raise BadInput(f"line {number}: {len(cells)} cells where the heading has {len(heads)}: mend it.")
        row: dict[str, Any] = {}
        for (key, unit), cell in zip(heads, cells, strict=False):
            if cell:
                value = parse_yaml(cell, f"line {number}, {key}")
                bare = unit and isinstance(value, (int, float)) and not isinstance(value, bool)
                row[key] = f"{cell} {unit}" if bare else value
        made.append(row)
    return made


def _head(cell: str, columns: Sequence[str]) -> tuple[str, str]:
    name, _, unit = cell.strip().strip('"').partition("[")
    key = name.strip().lower().replace(" ", "_")
    if key not in columns:
        near = difflib.get_close_matches(key, columns, 1, 0.4)
        hint = f"did you mean '{near[0]}'?" if near else f"known here: {', '.join(columns)}."
        raise BadInput(f"line 1: the heading '{cell.strip()}' is not known; {hint}")
    return key, unit.rstrip("] ").strip()
