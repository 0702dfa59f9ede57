"""A profile as a table of breakpoints: its rows as a person reads them, and what a typed cell makes of the profile.

All functions take and give profiles as plain data (`lab.profiles`), and change nothing in place.
"""

from __future__ import annotations

import copy
import math
import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from ...core.errors import BadInput
from ...core.quantities import parse, same_kind, split
from .profiles import DENSITY, BandPart, RandomFile, SineFile, profile_of

LAWS = ("acceleration", "velocity", "displacement", "line")
UNIT = {"acceleration": "m/s^2", "velocity": "m/s", "displacement": "m", "density": DENSITY}
SHOWN = {"acceleration": ("m/s²", 1.0), "velocity": ("m/s", 1.0), "displacement": ("mm pk-pk", 1e3),
         "density": ("(m/s²)²/Hz", 1.0)}  # fmt: skip
Data = dict[str, Any]


@dataclass(frozen=True)
class BreakRow:
    """One breakpoint, in words."""

    frequency: str
    level: str
    law: str
    """How it goes on to the next row: one of `LAWS` for a sine, dB/oct in words for random; empty for the last row"""
    tolerance: str
    typed: bool
    """Whether the frequency was typed; else it follows from the laws beside it"""
    level_typed: bool = True


def file_of(data: Mapping[str, Any]) -> SineFile | RandomFile:
    """The profile, checked. Raises BadInput."""
    held = profile_of(dict(data), "profile")
    if not isinstance(held, (SineFile, RandomFile)):
        raise BadInput("profile: a record has no breakpoints.")
    return held


def rows(data: Mapping[str, Any]) -> list[BreakRow]:
    """All breakpoints. Raises BadInput for a profile that can't be solved."""
    held = file_of(data)
    if isinstance(held, RandomFile):
        return _random_rows(data, held)
    solved, made = held.solved(), []
    for i, (part, piece) in enumerate(zip(held.segments, solved.pieces, strict=True)):
        law = part.law()
        typed = i == 0 or held.segments[i - 1].until is not None
        if law == "line":
            level, written = float(piece.at(piece.low)), False
        else:
            level, written = float(getattr(part, law)), True
        made.append(BreakRow(
            _hz(piece.low), _level(level, "acceleration" if law == "line" else law), law, band_text(part.tolerance),
            typed, written,
        ))  # fmt: skip
    end = float(solved.acceleration(solved.stop))
    return [*made, BreakRow(_hz(solved.stop), _level(end, "acceleration"), "", "", True, False)]


def _random_rows(data: Mapping[str, Any], held: RandomFile) -> list[BreakRow]:
    solved, made = held.solved(), []
    pairs = list(zip(solved.frequencies, solved.densities, strict=True))
    for i, (part, (f, s)) in enumerate(zip(held.points, pairs, strict=True)):
        law = ""
        if i + 1 < len(pairs):
            slope = 10 * math.log10(pairs[i + 1][1] / s) / math.log2(pairs[i + 1][0] / f)
            law = "flat" if abs(slope) < 0.05 else f"{slope:+.1f} dB/oct".replace("-", "−")
        made.append(BreakRow(_hz(f), _level(s, "density"), law, band_text(part.tolerance), True, part.slope is None))
    return made


def _hz(f: float) -> str:
    return f"{f:.5g}"


def _level(value: float, kind: str) -> str:
    unit, by = SHOWN[kind]
    return f"{by * value:.4g} {unit}"


# --- bands ------------------------------------------------------------------------------------------------------------


def band_text(band: BandPart | None) -> str:
    """A band as it is typed: `±3 dB`, `−1 dB / +2 dB`; empty without one."""
    if band is None or (band.low is None and band.high is None):
        return ""
    low, high = (_side_text(s) for s in (band.low, band.high))
    if low.startswith("−") and high.lstrip("+") == low[1:]:
        return f"±{low[1:]}"
    return " / ".join(t for t in (low or "none", high or "none"))


def _side_text(side: Any) -> str:
    if side is None:
        return ""
    text = f"{side:+g} dB" if isinstance(side, (int, float)) else str(side).strip()
    value, unit = split(text)
    if unit.replace(" ", "") in ("dB", "%"):
        text = f"{value:+g} {unit}"
    return text.replace("-", "−")


def band_typed(text: str) -> dict[str, str] | None:
    """A typed band as data: one value for both sides, or two with a slash between, `none` for a side without. Nothing
    typed: None. Raises BadInput for what has no unit."""
    held = text.replace("−", "-").replace("+-", "±").replace("+/-", "±").strip()
    if held in ("", "none"):
        return None
    parted = re.search(r"\s/\s|\d\s*(?:dB|%)?/[-+]|none/|/none", held)  # the slash of a unit parts nothing
    mark = " / " if " / " in held else "/"
    sides = [s.strip() for s in held.split(mark, 1)] if parted else [held]
    if len(sides) == 1:
        one = sides[0].lstrip("±+-").strip()
        _, unit = split(one)
        if unit.replace(" ", "") not in ("dB", "%"):
            raise BadInput(f"'{text}': a band is in dB or %, like '±3 dB' or '-1 dB / +2 dB'.")
        return {"low": f"-{one}", "high": one}
    last = split(sides[1])[1] if sides[1] != "none" else ""
    made = {}
    for name, side in zip(("low", "high"), sides, strict=True):
        if side == "none":
            continue
        value, unit = split(side)
        if not unit and not last:
            raise BadInput(f"'{text}': a band is in dB or %, like '±3 dB' or '-1 dB / +2 dB'.")
        made[name] = f"{value:g} {unit or last}"
    return made or None


def with_band(data: Data, name: str, text: str) -> Data:
    """`tolerance` or `abort` of the whole profile as typed; nothing takes it away. Raises BadInput."""
    return _checked(_with({**data}, name, band_typed(text)))


def _with(part: Data, name: str, value: Any) -> Data:
    if value is None:
        part.pop(name, None)
    else:
        part[name] = value
    return part


def _checked(data: Data) -> Data:
    """The profile, if it can be solved and its edges stand where edges can."""
    held = file_of(data)
    solved = held.solved()
    f = solved.grid()
    for name in ("tolerance", "abort"):
        key = name if isinstance(held, SineFile) else f"{name}s"
        low, high = solved.edges(f, key)  # type: ignore[arg-type]
        if (low >= high).any():
            raise BadInput(f"{name}: its lower edge is not below its upper one.")
    return data


# --- cells ------------------------------------------------------------------------------------------------------------


def with_frequency(data: Data, i: int, text: str) -> Data:
    """The frequency of row `i` as typed. Raises BadInput."""
    f = parse(text, "Hz", "frequency")
    made, written = copy.deepcopy(data), f"{f:g} Hz"
    if "points" in made:
        made["points"][i]["frequency"] = written
    elif i == 0:
        made["start"] = written
    elif i == len(made["segments"]):
        made["stop"] = written
    else:
        made["segments"][i - 1]["until"] = written
    return _checked(made)


def with_level(data: Data, i: int, text: str) -> Data:
    """The level of row `i` as typed: its unit says which quantity is held; in dB it goes up or down by so much.
    Raises BadInput, also for a number whose unit isn't said."""
    value, unit = split(text.replace("−", "-").replace("pk-pk", "").replace("peak", "").strip())
    if not unit:
        raise BadInput(f"level: '{text}' has no unit: write it like '10 m/s^2', '1 g', '4 mm' or '+3 dB'.")
    made = copy.deepcopy(data)
    if "points" in made:
        solved = file_of(data).solved()
        if unit.replace(" ", "") == "dB":
            s = solved.densities[i] * 10 ** (value / 10)  # type: ignore[union-attr]
            text = f"{s:.5g} {DENSITY}"
        elif not same_kind(unit, DENSITY):
            raise BadInput(f"level: '{text}' is no density: write it like '0.5 (m/s^2)^2/Hz' or '0.005 g^2/Hz'.")
        made["points"][i].pop("slope", None)
        made["points"][i]["density"] = text
        return _checked(made)
    if i >= len(made["segments"]):
        raise BadInput("level: the last row follows from the law before it: change that, or its frequency.")
    part = made["segments"][i]
    law = next(n for n in LAWS if n in part)
    if unit.replace(" ", "") == "dB":
        if law == "line":
            raise BadInput("level: a line goes from one level to the next: change those.")
        held = parse(part[law], UNIT[law], "level") * 10 ** (value / 20)
        kind, text = law, f"{held:.5g} {UNIT[law]}"
    else:
        found = next((k for k in ("acceleration", "velocity", "displacement") if same_kind(unit, UNIT[k])), None)
        if found is None:
            raise BadInput(f"level: '{text}' is no acceleration, velocity or displacement.")
        kind, text = found, f"{value:g} {unit}"
    return _checked(_law_put(made, i, kind, text))


def with_law(data: Data, i: int, law: str) -> Data:
    """How row `i` goes on: a law at the level that holds there now, or a line to the next. Raises BadInput."""
    solved = file_of(data).solved()
    piece = solved.pieces[i]  # type: ignore[union-attr]
    if law == "line":
        made = copy.deepcopy(data)
        if i == 0 or i + 1 >= len(made["segments"]):
            raise BadInput("A line goes from one level to the next: it needs a stretch before and one behind it.")
        for k in (i - 1, i):  # its ends stay where they are
            made["segments"][k].setdefault("until", f"{solved.pieces[k].high:.6g} Hz")  # type: ignore[union-attr]
        return _checked(_law_put(made, i, "line", True))
    a, w = float(piece.at(piece.low)), 2 * math.pi * piece.low
    value = a / {"acceleration": 1.0, "velocity": w, "displacement": w * w / 2}[law]
    unit, by = ("mm", 1e3) if law == "displacement" else (UNIT[law], 1.0)
    return _checked(_law_put(copy.deepcopy(data), i, law, f"{by * value:.5g} {unit}"))


def _law_put(data: Data, i: int, law: str, value: Any) -> Data:
    rest = {k: v for k, v in data["segments"][i].items() if k not in LAWS}
    data["segments"][i] = {law: value, **rest}
    return data


def with_tolerance(data: Data, i: int, text: str, name: str = "tolerance") -> Data:
    """A band of row `i` alone; nothing: the whole profile's holds there too. Raises BadInput."""
    made = copy.deepcopy(data)
    parts = made["points" if "points" in made else "segments"]
    if i >= len(parts):
        raise BadInput("The last row has no stretch behind it.")
    _with(parts[i], name, band_typed(text))
    return _checked(made)


def added(data: Data, i: int) -> Data:
    """A breakpoint more, in the middle between row `i` and the next; the curve stays as it is. Raises BadInput."""
    made, solved = copy.deepcopy(data), file_of(data).solved()
    if "points" in made:
        i = min(i, len(made["points"]) - 2)
        f = math.sqrt(solved.frequencies[i] * solved.frequencies[i + 1])  # type: ignore[union-attr]
        f = float(f"{f:.3g}")
        new = {"frequency": f"{f:g} Hz", "density": f"{float(solved.density(np.array(f))):.5g} {DENSITY}"}  # type: ignore[union-attr]
        made["points"].insert(i + 1, new)
        return _checked(made)
    i = min(i, len(made["segments"]) - 1)
    piece, part = solved.pieces[i], made["segments"][i]  # type: ignore[union-attr]
    f = float(f"{math.sqrt(piece.low * piece.high):.3g}")
    if "line" in part:
        level = f"{float(piece.at(f)):.5g} m/s^2"
        raise BadInput(f"A line has one level at each end: make it a constant first ({level} at {f:g} Hz).")
    made["segments"].insert(i, {**part, "until": f"{f:g} Hz"})
    return _checked(made)


def removed(data: Data, i: int) -> Data:
    """One breakpoint less. Raises BadInput where the profile would have none left."""
    made = copy.deepcopy(data)
    key = "points" if "points" in made else "segments"
    if len(made[key]) <= (2 if key == "points" else 1):
        raise BadInput("A profile needs two breakpoints at least.")
    if key == "points":
        del made["points"][i]
        return _checked(made)
    i = min(i, len(made["segments"]) - 1)
    if i == len(made["segments"]) - 1:
        made["segments"][i - 1].pop("until", None)
    del made["segments"][i]
    return _checked(made)


def with_sweep(data: Data, key: str, text: str) -> Data:
    """`law`, `rate` or `duration` of a sine's sweep; of rate and duration the other follows. Raises BadInput."""
    made = copy.deepcopy(data)
    sweep = made.setdefault("sweep", {})
    if key in ("rate", "duration"):
        sweep.pop("duration" if key == "rate" else "rate", None)
    if key == "law" and text != sweep.get("law", "log"):
        held = file_of(data)
        course = held.sweeping() if isinstance(held, SineFile) else None
        if course is not None:  # as long as before: a rate in octaves says nothing of a linear sweep
            sweep.pop("rate", None)
            sweep["duration"] = f"{course.one.duration:.5g} s"
    sweep[key] = text.strip()
    held = file_of(made)
    assert isinstance(held, SineFile)
    held.sweeping()
    return made


def sweep_texts(data: Mapping[str, Any]) -> dict[str, str]:
    """Law, rate and duration of one sweep, as they are typed."""
    held = file_of(data)
    if not isinstance(held, SineFile):
        return {}
    made = {"law": held.sweep.law if held.sweep else "log", "rate": "", "duration": ""}
    course = held.sweeping()
    if course is not None:
        per = "oct/min" if made["law"] == "log" else "Hz/s"
        span = math.log2(held.stop / held.start) if made["law"] == "log" else held.stop - held.start
        rate = span / course.one.duration * (60 if made["law"] == "log" else 1)
        made |= {"rate": f"{rate:.4g} {per}", "duration": f"{course.one.duration:.5g} s"}
    return made


def with_rms(data: Data, text: str) -> Data:
    """The rms that a random profile is scaled to; nothing frees it. Raises BadInput."""
    made = copy.deepcopy(data)
    if not text.strip():
        made.pop("rms", None)
        return _checked(made)
    if not split(text)[1]:
        raise BadInput(f"rms: '{text}' has no unit: write it like '20 m/s^2' or '2 g'.")
    if parse(text, "m/s^2", "rms") <= 0:
        raise BadInput("rms: it must be above zero.")
    made["rms"] = text.strip()
    return _checked(made)
