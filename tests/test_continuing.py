"""Shaker runs that were cut at any position, gone on from there, and read as one."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from lucid_anvil.contracts.finding import Finding
from lucid_anvil.domains.shaker.join import joined
from lucid_anvil.engine.inprocess import Played, play_through
from lucid_anvil.engine.preparing import Prepared
from test_chain import RANDOM
from test_shaker_control import prepared, sine

QUICK = {"probe": {"period": "1 s", "periods": 3}}
SINE = sine(40, 160, "12 oct/min", control=QUICK, course=[
    {"sweep": "up"}, {"dwell": "80 Hz", "duration": "6 s"}, {"pause": "2 s"},
    {"follow": "resonance", "duration": "9 s", "channel": "response"}, {"sweep": "down"},
])  # fmt: skip
ARTICLE = [{"mass": "0.9 kg", "frequency": 110, "quality": 12}]


def part(p: Prepared, made: Played, cut: float | None) -> Any:
    marks = [*made.marks]
    if cut is not None:
        marks.append({"kind": "trip", "guard": "operator", "action": "ease", "t": cut})
    return made.channels, p.settings, marks


def in_pieces(p: Prepared, cuts: list[float]) -> Finding:
    """The finding of a run that was cut after each of so many seconds of its take, then gone on with to its end."""
    parts, position = [], None
    for cut in [*cuts, np.inf]:
        made = play_through(p, start=position, longest=cut)
        parts.append(part(p, made, cut if np.isfinite(cut) else None))
        position = made.position or position
    return p.method.evaluate(*joined(parts))


def phases(p: Prepared, made: Played, names: list[str]) -> list[float]:
    """s at which each mark of a kind comes, and where things happen in between."""
    return [float(m["t"]) for m in made.marks if m.get("law", m["kind"]) in names]


@pytest.fixture(scope="module")
def whole() -> tuple[Prepared, Played, Finding]:
    p = prepared("sine-sweep", SINE, ARTICLE)
    made = play_through(p)
    assert made.trip is None, made.trip
    return p, made, p.method.evaluate(made.channels, p.settings, made.marks)


@pytest.mark.parametrize("where", ["probe", "start-up", "sweep's end", "pause", "follow", "twice"])
def test_a_sine_run_in_pieces_reads_as_one(where: str, whole: tuple[Prepared, Played, Finding]) -> None:
    p, made, one = whole
    up, _ = phases(p, made, ["log"])
    (dwell,), follow = ([m["t"] for m in made.marks if m.get("follow") is flag] for flag in (False, True))
    cut = {
        "probe": 2.0, "start-up": up - 0.3, "sweep's end": dwell - 0.6, "pause": dwell + 7.2,
        "follow": follow[0] + 4.0, "twice": up + 6.0,
    }[where]  # fmt: skip
    cuts = [cut] if where != "twice" else [cut, cut - up + 8.0]
    both = in_pieces(p, cuts)
    assert both.missing == () and both.complete
    assert [c.key for c in both.curves] == [c.key for c in one.curves]
    for key in ("control", "control_1"):
        a, b = both.curve(key), one.curve(key)
        f = np.array(a.x)
        assert f.size >= len(b.x) - 2 and np.all(np.diff(f) > 0)
        x, y = np.interp(b.x, f, np.array(a.y, float)), np.array(b.y, float)
        assert np.median(np.abs(20 * np.log10(x / y))) < 0.05 and np.max(np.abs(20 * np.log10(x / y))) < 1.2
    for key, off in (("dwell_1_duration", 2.2), ("dwell_2_duration", 2.2), ("dwell_2_frequency", 0.6)):
        assert both.reading(key).value == pytest.approx(one.reading(key).value, abs=off), key
    assert abs(both.reading("dwell_1_error").value) < 0.5


@pytest.fixture(scope="module")
def whole_random() -> tuple[Prepared, Played, Finding]:
    p = prepared("random-vibration", {**RANDOM, "control": QUICK, "course": [{"random": True, "duration": "16 s"}]})
    made = play_through(p)
    return p, made, p.method.evaluate(made.channels, p.settings, made.marks)


@pytest.mark.parametrize("cut", [0.3, 0.55, 0.8, 0.97])
def test_a_random_run_in_pieces_reads_as_one(cut: float, whole_random: tuple[Prepared, Played, Finding]) -> None:
    p, made, one = whole_random
    both = in_pieces(p, [cut * made.blocks * p.facts.block / p.facts.rate])
    assert both.missing == ()
    for key, off in (("in_tolerance", 1.5), ("rms", 0.15), ("degrees_of_freedom", 8), ("kurtosis", 0.1)):
        assert both.reading(key).value == pytest.approx(one.reading(key).value, abs=off), key


@pytest.fixture(scope="module")
def whole_history(tmp_path_factory: pytest.TempPathFactory) -> tuple[Prepared, Played, Finding]:
    t = np.arange(2048) / 1024
    x = 12 * np.sin(2 * np.pi * 60 * t) * np.exp(-(((t - 1) / 0.4) ** 2))
    place, rows = tmp_path_factory.mktemp("hit") / "hit.csv", np.column_stack([t, x])
    place.write_text("time [s],acceleration [m/s^2]\n" + "\n".join(f"{a:.6f},{b:.5f}" for a, b in rows) + "\n")
    settings = {"profile": {"kind": "time", "file": str(place)}, "control": QUICK,
                "course": [{"history": True, "repeats": 4}]}  # fmt: skip
    p = prepared("time-replication", settings)
    made = play_through(p)
    assert made.trip is None, made.trip
    return p, made, p.method.evaluate(made.channels, p.settings, made.marks)


@pytest.mark.parametrize("cut", [0.4, 0.7, 0.9])
def test_a_replication_in_pieces_reads_as_one(cut: float, whole_history: tuple[Prepared, Played, Finding]) -> None:
    p, made, one = whole_history
    both = in_pieces(p, [cut * made.blocks * p.facts.block / p.facts.rate])
    assert both.missing == () and [r.key for r in both.readings] == [
        r.key for r in one.readings
    ]  # no pass is counted that the plan does not ask for
    for r in both.readings:
        assert r.value == pytest.approx(one.reading(r.key).value, abs=0.25), r.key
