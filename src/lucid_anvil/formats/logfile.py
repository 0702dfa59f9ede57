"""A logger's table: rows at their own times, with gaps, stamped in seconds or as ISO 8601 date-times."""

from __future__ import annotations

import datetime as dt
import re
from pathlib import Path

import numpy as np

from ..contracts.recording import Channel, Floats, Recording
from ..core.errors import BadInput
from ..core.quantities import factor, same_kind
from .csvfile import _has_decimal_comma, _is_number, _noted, _plain_text, split_label

HOUR = 3600.0
SLOW = 50.0
"""Hz; below it rows may come when they like"""


def read_log(path: Path) -> Recording:
    """A CSV whose first column is `time`, in its unit or as date-times. Raises BadInput naming file, line and cure."""
    text = _plain_text(path)
    if text is None:
        try:
            text = path.read_text(encoding="utf-8-sig")
        except UnicodeDecodeError:
            raise BadInput(f"{path}: this is not a text file: give a CSV in UTF-8.") from None
    lines = text.splitlines()
    rows = [(i, line) for i, line in enumerate(lines, start=1) if line.strip() and not line.startswith("#")]
    if len(rows) < 3:
        raise BadInput(f"{path}: a row of 'label [unit]' and two rows of numbers below are needed.")
    head = rows[0][1]
    delimiter = max(("\t", ";", ","), key=head.count)
    named = [split_label(c) for c in head.split(delimiter)]
    if named[0][0].lower() not in ("time", "t", "date", "datetime", "timestamp") or len(named) < 2:
        raise BadInput(f"{path}: the first column must be the time, and channels beside it.")
    comma = delimiter != "," and _has_decimal_comma(path, rows[0][0])
    stamped = not _is_number(rows[1][1].split(delimiter)[0])
    unit = named[0][1]
    if not stamped and unit and not same_kind(unit, "s"):
        raise BadInput(f"{path}: the time is in '{unit}', which is no time: name its column like 'time [s]'.")
    scale = 1.0 if stamped else factor(unit or "s", "s")
    table = np.empty((len(rows) - 1, len(named)))
    zones: set[bool] = set()
    origin: dt.datetime | None = None
    for k, (number, line) in enumerate(rows[1:]):
        cells = [c.strip() for c in line.split(delimiter)]
        if len(cells) != len(named):
            raise BadInput(f"{path}, line {number}: {len(cells)} cells where the first row has {len(named)}: mend it.")
        if stamped:
            at = _stamp(cells[0], path, number)
            zones.add(at.tzinfo is None)
            if len(zones) > 1:
                raise BadInput(f"{path}, line {number}: some times state their zone and some don't: state it in all.")
            origin = origin or at
            cells[0] = repr((at - origin).total_seconds())
        for c, cell in enumerate(cells):
            try:
                table[k, c] = float(cell.replace(",", ".") if comma else cell)
            except ValueError:
                table[k, c] = np.nan
            if not np.isfinite(table[k, c]):
                raise BadInput(f"{path}, line {number}, column {c + 1}: '{cell}' is not a number: mend that cell.")
    t = table[:, 0] * scale
    told = _check(t, path, [n for n, _ in rows[1:]], stamped and zones == {True})
    meta = {"format": "csv", "notes": told, **({"begun": origin.isoformat()} if origin else {})}
    step = float(np.median(np.diff(t)))
    rate = 1 / step
    nominal = round(rate)
    rate = float(nominal) if nominal and abs(rate / nominal - 1) < 1e-6 else rate
    even = bool(np.all(np.abs(np.diff(t) - step) <= 1e-3 * step))
    if not even and rate >= SLOW:
        raise BadInput(f"{path}: time steps are uneven, which a log below {SLOW:g} Hz alone may have: resample it.")
    times = None if even else t - t[0]
    columns = np.ascontiguousarray(table.T[1:])
    channels = tuple(
        _channel(label or f"ch{i}", own, rate, x, times)
        for i, ((label, own), x) in enumerate(zip(named[1:], columns, strict=True), start=1)
    )
    return _noted_both(Recording(str(path), channels, meta), path)


def _noted_both(made: Recording, path: Path) -> Recording:
    noted = _noted(made, path)
    return Recording(made.source, made.channels, {**made.meta, "notes": (*made.notes, *_new(noted, made))})


def _new(noted: Recording, made: Recording) -> tuple[str, ...]:
    return tuple(n for n in noted.notes if n not in made.notes)


def _channel(label: str, unit: str, rate: float, x: Floats, times: Floats | None) -> Channel:
    return Channel(label, unit, rate, x.size, lambda a, b: x[a:b], {}, times)


def _stamp(cell: str, path: Path, number: int) -> dt.datetime:
    text = re.sub(r"(?<=\d),(?=\d)", ".", cell)
    try:
        return dt.datetime.fromisoformat(text)
    except ValueError:
        raise BadInput(
            f"{path}, line {number}: '{cell}' is no time: write 2026-11-30T08:00:00+01:00, or seconds."
        ) from None


def _check(t: Floats, path: Path, numbers: list[int], local: bool) -> tuple[str, ...]:
    """Raises BadInput where time does not rise; a word where a clock without zone was put forward."""
    steps = np.diff(t)
    back = np.flatnonzero(steps <= 0)
    usual = float(np.median(steps[steps > 0])) if np.any(steps > 0) else 0.0
    if back.size:
        i = int(back[0])
        hour = abs(steps[i] + HOUR) < 3 * usual + 1
        why = (" by an hour, as where summer time ends: log with the zone, like +01:00" if hour and local else
               ": mend the time column")  # fmt: skip
        raise BadInput(f"{path}, line {numbers[i + 1]}: time goes back{why}.")
    if not local:
        return ()
    jumps = np.flatnonzero(np.abs(steps - HOUR) < max(3 * usual, 1.0)) if usual < 600 else np.zeros(0, int)
    return tuple(
        f"Line {numbers[i + 1]}: the clock goes on by an hour, as where summer time begins, and states no zone: either"
        " an hour was not logged, or none has gone by." for i in jumps
    )  # fmt: skip
