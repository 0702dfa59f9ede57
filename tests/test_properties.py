"""Properties that hold whatever the numbers: fits, budgets, findings, files, background work."""

from __future__ import annotations

import gc
import json
import math
import time
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PyQt6.QtWidgets import QApplication

from lucid_anvil.contracts.finding import Curve, Finding, Reading, as_json, from_json
from lucid_anvil.contracts.recording import channel_of
from lucid_anvil.core.calibration.comparison import Tone, measure_tone
from lucid_anvil.core.calibration.response import Response
from lucid_anvil.core.calibration.uncertainty import Entry, combine, coverage_factor, of_ratio
from lucid_anvil.core.errors import BadInput
from lucid_anvil.core.signal.health import flat_tops
from lucid_anvil.core.signal.sinefit import fit_tone
from lucid_anvil.desktop.parts.background import Background, Tidy
from lucid_anvil.formats import Recording, read, write
from lucid_anvil.lab.textfiles import dump_yaml, parse_yaml

RATE = 51200.0
positive = st.floats(1e-6, 1e3)
entries = st.lists(
    st.builds(
        Entry, st.text("abc", min_size=1), st.just("x"), positive, st.just("%"),
        st.sampled_from(["normal", "rectangular", "triangular", "u-shaped"]), st.floats(0.1, 2.0),
        st.one_of(st.just(math.inf), st.floats(1, 200)), st.floats(0, 1),
    ),
    min_size=1, max_size=8,
)  # fmt: skip


@settings(deadline=None)
@given(entries)
def test_a_budget_is_no_smaller_than_its_largest_entry_and_no_larger_than_their_sum(rows: list[Entry]) -> None:
    budget = combine(tuple(rows))
    parts = [e.contribution for e in rows]
    assert max(parts) * (1 - 1e-9) <= budget.combined <= sum(parts) * (1 + 1e-9)
    assert budget.expanded >= 1.999 * budget.combined
    assert budget.dof >= min(e.dof for e in rows) * (1 - 1e-9)


@settings(deadline=None)
@given(entries, st.floats(0.01, 100))
def test_scaling_all_entries_scales_the_budget(rows: list[Entry], by: float) -> None:
    scaled = tuple(Entry(e.key, e.label, e.half_width * by, e.unit, e.distribution, e.sensitivity, e.dof) for e in rows)
    assert combine(scaled).expanded == pytest.approx(by * combine(tuple(rows)).expanded, rel=1e-9)


@settings(deadline=None)
@given(entries)
def test_a_ratio_with_itself_keeps_only_what_is_not_common(rows: list[Entry]) -> None:
    unique = tuple({e.key: e for e in rows}.values())
    ratio = of_ratio(unique, unique)
    wanted = math.sqrt(sum(2 * (1 - e.correlation) * e.contribution**2 for e in unique))
    assert ratio.combined == pytest.approx(wanted, rel=1e-6, abs=1e-9)


@settings(deadline=None)
@given(st.floats(1, 1e7), st.floats(1, 1e7))
def test_more_degrees_of_freedom_never_widen_the_coverage(a: float, b: float) -> None:
    few, many = sorted((a, b))
    assert coverage_factor(few) >= coverage_factor(many) - 1e-4


@settings(max_examples=30, deadline=None)
@given(st.floats(20, 5000), st.floats(0.2, 5), st.floats(-3, 3), st.floats(0.01, 3))
def test_the_ratio_does_not_know_level_or_time_origin(f: float, gain: float, phase: float, level: float) -> None:
    n = 10240
    t = np.arange(n) / RATE
    pair = level * np.array([np.cos(2 * np.pi * f * t), gain * np.cos(2 * np.pi * f * t + phase)])
    here, there = (fit_tone(pair, RATE, f, t0=t0) for t0 in (0.0, 123.456))
    ratio = here.phasors[1] / here.phasors[0]
    assert ratio == pytest.approx(gain * np.exp(1j * phase), rel=1e-5, abs=1e-6)
    assert there.phasors[1] / there.phasors[0] == pytest.approx(ratio, rel=1e-6, abs=1e-7)


@settings(max_examples=15, deadline=None)
@given(st.floats(60, 4000), st.integers(0, 10_000))
def test_noise_alone_never_strikes_a_sound_tone(f: float, seed: int) -> None:
    rng = np.random.default_rng(seed)
    t = np.arange(25600) / RATE
    x = np.array([np.sin(2 * np.pi * f * t), 0.9 * np.sin(2 * np.pi * f * t)]) + rng.normal(0, 0.003, (2, t.size))
    result, _ = measure_tone(lambda _a, _b: x, RATE, Tone(f, 0.0, 0.5))
    assert result.fault is None
    assert abs(result.ratio) == pytest.approx(0.9, abs=max(8 * result.spread, 2e-4))


@given(st.floats(30, 2000), st.floats(0.3, 0.9))
def test_a_clipped_sine_has_flat_tops_and_a_whole_one_has_not(f: float, share: float) -> None:
    x = np.sin(2 * np.pi * f * np.arange(20480) / RATE) + np.random.default_rng(1).normal(0, 1e-4, 20480)
    assert not flat_tops(x, RATE, f)
    assert flat_tops(np.clip(x, -share, share), RATE, f)


@given(
    st.lists(
        st.tuples(st.floats(1, 2e4), st.floats(0.1, 100)), min_size=2, max_size=12, unique_by=lambda r: round(r[0])
    )
)
def test_a_response_passes_its_points_and_stays_between_neighbours(rows: list[tuple[float, float]]) -> None:
    rows = sorted(rows)
    if any(b[0] / a[0] < 1.001 for a, b in zip(rows, rows[1:], strict=False)):
        return
    r = Response(tuple(f for f, _ in rows), tuple(s for _, s in rows))
    for f, s in rows:
        assert r.at(f) == pytest.approx(s, rel=1e-6)
    for (f1, s1), (f2, s2) in zip(rows, rows[1:], strict=False):
        assert min(s1, s2) * (1 - 1e-9) <= r.at(math.sqrt(f1 * f2)) <= max(s1, s2) * (1 + 1e-9)


numbers = st.one_of(st.none(), st.floats(allow_nan=True, allow_infinity=True))


@given(numbers, numbers, st.lists(numbers, min_size=1, max_size=5))
def test_json_of_a_finding_is_always_json(value: Any, doubt: Any, y: list[Any]) -> None:
    reading = Reading("a", "A", value, "V", doubt)
    curve = Curve("c", "C", tuple(float(i) for i in range(len(y))), tuple(y), "Hz", "V", tuple(y))
    text = json.dumps(as_json(Finding("m", (reading,), (curve,))), allow_nan=False)
    back = from_json(json.loads(text))
    assert back.reading("a").value is None or math.isfinite(back.reading("a").value)
    assert len(back.curve("c").y) == len(y)


@settings(max_examples=15, deadline=None)
@given(
    st.lists(st.floats(-1e9, 1e9, allow_nan=False), min_size=2, max_size=40),
    st.sampled_from([1000.0, 48000.0, 51200.0]),
)
def test_csv_keeps_every_bit(tmp_path_factory: Any, values: list[float], rate: float) -> None:
    place = tmp_path_factory.mktemp("csv") / "x.csv"
    write(place, Recording("m", (channel_of("a b", "m/s^2", rate, np.array(values)),)))
    back = read(place).channels[0]
    assert back.samples().tolist() == values
    assert back.rate == pytest.approx(rate, rel=1e-6)
    assert (back.label, back.unit) == ("a b", "m/s^2")


@given(st.recursive(
    st.one_of(st.integers(-1000, 1000), st.floats(-1e6, 1e6), st.text("abc äµ²%/(", max_size=8), st.booleans()),
    lambda inner: st.one_of(st.lists(inner, max_size=3), st.dictionaries(st.text("abc", min_size=1, max_size=4), inner, max_size=3)),
    max_leaves=8,
))  # fmt: skip
@settings(max_examples=40, deadline=None)
def test_yaml_and_back(data: Any) -> None:
    assert parse_yaml(dump_yaml({"x": data}), "x") == {"x": data}


def spin(done: Any, timeout: float = 10.0) -> None:
    end = time.monotonic() + timeout
    while not done() and time.monotonic() < end:
        QApplication.processEvents()
        time.sleep(0.002)
    assert done()


def test_work_aside_is_delivered_in_the_windows_thread(qapp: Any) -> None:
    import threading

    aside, got = Background(), []
    aside.run("a", lambda: threading.get_ident(), lambda where: got.append((where, threading.get_ident())))
    spin(lambda: got)
    assert got[0][0] != got[0][1] == threading.get_ident()
    assert not aside.open


def test_garbage_is_looked_for_in_the_windows_thread_only(qapp: Any) -> None:
    import threading

    where: list[int] = []

    class Ring:
        def __init__(self) -> None:
            self.me = self

        def __del__(self) -> None:
            where.append(threading.get_ident())

    on, limits = gc.isenabled(), gc.get_threshold()
    tidy = Tidy(every=5)
    try:
        gc.set_threshold(50, 1, 1)
        worker = threading.Thread(target=lambda: [Ring() for _ in range(400)])
        worker.start()
        worker.join()
        assert where == []
        spin(lambda: len(where) == 400)
        assert set(where) == {threading.get_ident()}
        gc.set_threshold(1_000_000, 1, 1)
        gc.collect()
        assert tidy.look() is None
    finally:
        gc.set_threshold(*limits)
        tidy.timer.stop()
        if on:
            gc.enable()


def test_only_the_newest_of_a_kind_is_delivered(qapp: Any) -> None:
    aside, got = Background(), []
    aside.run("a", lambda: time.sleep(0.15) or "old", got.append)
    aside.run("a", lambda: "new", got.append)
    aside.run("b", lambda: "other", got.append)
    spin(lambda: not aside.open)
    assert sorted(got) == ["new", "other"]


def test_what_goes_wrong_aside_is_told(qapp: Any) -> None:
    aside, told, got = Background(), [], []
    aside.failed.connect(told.append)

    def bad() -> None:
        raise BadInput("The file is empty: fill it.")

    aside.run("a", bad, got.append)
    spin(lambda: told)
    aside.run("a", lambda: 1 / 0, got.append)
    spin(lambda: len(told) == 2)
    assert told[0] == "The file is empty: fill it."
    assert "ZeroDivisionError" in told[1]
    assert got == []


def test_nothing_half_written_is_left(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from lucid_anvil.formats import files

    def breaks(place: Path, _recording: Recording) -> None:
        place.write_text("half")
        raise OSError(28, "No space left on device")

    monkeypatch.setitem(files._WRITERS, ".csv", breaks)
    with pytest.raises(BadInput, match="No space left"):
        write(tmp_path / "x.csv", Recording("m", (channel_of("a", "V", 10, np.zeros(3)),)))
    assert list(tmp_path.iterdir()) == []
