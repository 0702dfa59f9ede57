"""Records of which not all is kept: what is there is the right part, in its order, whatever ended the run."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from tests.conftest import Running
from tests.reading import arrays

from lucid_anvil.contracts.method import Thinned
from lucid_anvil.domains.frame.cycle_seen import CycleSeen, Trend
from lucid_anvil.domains.frame.cyclic import PulseSettings
from lucid_anvil.engine import launch
from lucid_anvil.engine.evaluating import evaluate_take
from lucid_anvil.engine.newplan import begin_plan
from lucid_anvil.engine.recorder import Recorder
from lucid_anvil.formats.hdf5file import close_properly, lengthen, read_events, read_raw
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.editing import put
from lucid_anvil.lab.takes import Take

BLOCK, RATE = 10, 1000.0
ROWS = [{"label": "force", "unit": "N"}, {"label": "current", "unit": "A", "per_volt": 2.0}]


def recorded(folder: Path, kept: list[bool], last: float = 0.055) -> Recorder:
    """A ramp of one a sample, a table row a block."""
    made = Recorder(folder, ROWS, RATE, BLOCK, Thinned(1.0, last, {"cycle": "", "top": "N"}))
    for i, keep in enumerate(kept):
        x = np.arange(i * BLOCK, (i + 1) * BLOCK, dtype=float)
        made.write(np.array([x, x]), keep)
        made.row({"cycle": float(i), "top": x[-1], "more": 1.0})
        if i % 7 == 6:
            made.flush()
    return made


def seen(folder: Path) -> np.ndarray:
    """Numbers of the samples that are read, each of which says when it was."""
    record = read_raw(folder / "raw.h5")
    a, b = (c.samples() for c in record.channels)
    assert np.array_equal(2 * a, b) and record.channels[0].length == a.size
    for low, high in ((0, 3), (5, a.size - 2), (a.size // 2, a.size)):
        assert np.array_equal(record.channels[0].samples(low, high), a[low:high])
    record.meta["file"].close()
    return a


def blocks(*numbers: int) -> np.ndarray:
    return np.concatenate([np.arange(n * BLOCK, (n + 1) * BLOCK) for n in numbers])


PATTERNS = {
    "a piece among the last": ([i < 5 or i in (20, 37) for i in range(40)], [*range(5), 20, *range(34, 40)]),
    "kept at the end": ([i < 3 or i >= 38 for i in range(40)], [*range(3), *range(32, 40)]),
    "all": ([True] * 25, [*range(25)]),
    "shorter than what is held": ([i < 1 for i in range(4)], [*range(4)]),
}


@pytest.mark.parametrize("name", PATTERNS)
@pytest.mark.parametrize("killed", [False, True])
def test_what_is_kept_and_what_came_last_is_there_in_its_order(tmp_path: Path, name: str, killed: bool) -> None:
    kept, there = PATTERNS[name]
    recorder = recorded(tmp_path / "t", kept)
    if killed:  # nothing is closed; what was on disk is taken as it lies
        recorder.flush()
        (tmp_path / "killed").mkdir()
        (tmp_path / "killed" / "raw.h5").write_bytes((tmp_path / "t" / "raw.h5").read_bytes())
        recorder.file.close()
        place = tmp_path / "killed"
        assert close_properly(place / "raw.h5")
    else:
        recorder.close(status="done", reason=None)
        place = tmp_path / "t"
    assert np.array_equal(seen(place), blocks(*there))
    record = read_raw(place / "raw.h5")
    gaps = [m for m in record.marks if m["kind"] == "gap"]
    jumps = [k for k, (a, b) in enumerate(zip(there, there[1:], strict=False)) if b != a + 1]
    assert [m["t"] for m in gaps] == pytest.approx([(k + 1) * BLOCK / RATE for k in jumps])
    assert [m["run"] for m in gaps] == pytest.approx([there[k + 1] * BLOCK / RATE for k in jumps])
    assert [c.label for c in record.trend] == ["cycle", "top"] and record.trend[0].length == len(kept)
    assert np.array_equal(record.trend[1].samples(), np.arange(len(kept)) * BLOCK + 9.0)
    assert bool(record.notes) == bool(jumps)


def test_events_stand_where_they_were_in_what_is_left(tmp_path: Path) -> None:
    recorder = recorded(tmp_path / "t", [i < 5 or i == 20 for i in range(40)])
    for t in (0.03, 0.12, 0.205, 0.3, 0.4):
        recorder.event("note", t=t, text=str(t))
    assert recorder.seconds == pytest.approx(0.4)
    recorder.close(status="cut", reason="x")
    marks = [m for m in read_raw(tmp_path / "t" / "raw.h5").marks if m["kind"] == "note"]
    # In what was let go: where what comes next begins.
    assert [m["t"] for m in marks] == pytest.approx([0.03, 0.05, 0.055, 0.06, 0.12])
    assert [m["run"] for m in marks] == [0.03, 0.12, 0.205, 0.3, 0.4]
    end = json.loads((tmp_path / "t" / "events.jsonl").read_text().splitlines()[-1])
    assert end["t"] == pytest.approx(0.4)


def test_what_a_device_still_put_out_comes_behind_what_came_last(tmp_path: Path) -> None:
    recorder = recorded(tmp_path / "t", [i < 5 or i == 38 for i in range(40)])
    recorder.close(status="cut", reason="x")
    raw = tmp_path / "t" / "raw.h5"
    raw.chmod(0o644)
    x = np.arange(400.0, 407.0)
    lengthen(raw, np.array([x, 2 * x]), 400)
    assert np.array_equal(seen(tmp_path / "t"), np.append(blocks(*range(5), *range(34, 40)), x))


def test_pulses_are_kept_by_decades_with_their_neighbours() -> None:
    pulse = PulseSettings(cycles=1_000_000)
    kept = [n for n in range(1_000_000) if pulse.keeps(n)] if pulse.thin else []
    assert kept[:100] == list(range(100)) and kept[100:106] == [100, 101, 109, 110, 111, 119]
    assert {999, 1000, 1001, 1099, 1100, 1101, 500_000} <= set(kept) and 1050 not in kept
    assert len(kept) + 100 == pytest.approx(pulse.kept_about, rel=0.02)
    assert not PulseSettings(cycles=9_999).thin and not PulseSettings(cycles=20_000, keep="all").thin
    assert pulse.keeps(123_456, 123_450) and not pulse.keeps(123_470, 123_450)


def test_a_loop_is_summed_block_by_block_as_it_is_at_once() -> None:
    u = np.arange(1000) / 400 + 0.1
    held = {"force": np.sin(2 * np.pi * u + 0.2) + 2, "displacement": 3 * np.sin(2 * np.pi * u) + 1}
    one = CycleSeen(("force", "displacement"))
    for a in range(0, 400, 64):
        one.add(held, slice(a, min(a + 64, 400)), u)
    values = one.values()
    assert values["energy"] == pytest.approx(3 * np.pi * np.sin(0.2), rel=1e-3)
    assert values["ratio"] == pytest.approx(1 / 3, rel=1e-9)
    assert values["force_swing"] == pytest.approx(2, rel=1e-3) and values["displacement_max"] == pytest.approx(4)
    one.anew()
    assert np.isnan(one.energy)


def test_a_trend_of_a_million_is_short_and_ends_with_the_newest() -> None:
    trend = Trend()
    for n in range(1, 200_001):
        trend.add(float(n), -float(n))
    x = [a for a, _ in trend.all()]
    assert x[:50] == list(range(1, 51)) and x[-1] == 200_000 and len(x) < 1000 and trend.last == -200_000


@pytest.fixture(scope="module")
def both(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Take]:
    """The same pulses, once kept whole and once thinned."""
    lab = begin_lab(tmp_path_factory.mktemp("thin") / "own", "Bench of one", [], "K.B.", True)
    made = {}
    for keep in ("all", "decades"):
        plan = begin_plan("cyclic", lab.folder / "rigs" / "pulser.rig.yaml", "Fender", lab.jobs / keep / "a.plan.yaml")
        pulse: dict[str, Any] = {"mean": "1.2 kN", "amplitude": "1 kN", "frequency": "3 Hz", "cycles": 240}
        put(plan, ("pulse",), {**pulse, "keep": keep, "keep_first": 10})
        folder, note = plan.parent / "take-001", lab.folder / f"{keep}.json"
        process = launch.start(plan, None, folder, "fast", note, "K.B.")
        run = Running(launch.wait_for(note, process, 60), process, folder)
        assert run.over().state == "done"
        launch.order(run.address, "close")
        process.wait(15)
        made[keep] = Take(folder)
    return made


def test_a_thinned_take_reads_like_one_that_is_whole(both: dict[str, Take]) -> None:
    whole, thin = (evaluate_take(both[k]) for k in ("all", "decades"))
    assert all(t.status() == "done" for t in both.values())
    lengths = [t.recording().channels[0].length for t in both.values()]
    assert lengths[1] < 0.6 * lengths[0]
    for key in ("cycles", "stiffness_initial", "stiffness_final"):
        assert thin.reading(key).value == pytest.approx(whole.reading(key).value, rel=0.003, abs=1.1)
    assert thin.reading("permanent_displacement").value == pytest.approx(
        whole.reading("permanent_displacement").value, abs=3e-6)  # fmt: skip
    n = int(thin.reading("cycles").value or 0)
    for key in ("force_max", "force_min", "displacement_max", "stiffness", "energy"):
        (_, a), (_, b) = (arrays(f.curve(key)) for f in (whole, thin))
        n = min(a.size, b.size, 235)
        assert np.abs(a[10:n] - b[10:n]).max() < 0.006 * np.abs(a).max(), key
    assert any("kept in" in note for note in thin.notes) and not any("off what was kept" in note for note in thin.notes)


def test_a_table_that_is_not_the_records_is_told(both: dict[str, Take], tmp_path: Path) -> None:
    import shutil

    import h5py

    folder = tmp_path / "take"
    shutil.copytree(both["decades"].folder, folder)
    (folder / "raw.h5").chmod(0o644)
    with h5py.File(folder / "raw.h5", "r+") as file:
        for held in file["trend"].values():
            if held.attrs["label"] in (b"force_max", b"force_min"):
                held[...] *= 1.05
    assert any("off what was kept" in note for note in evaluate_take(Take(folder)).notes)


def test_cycles_behind_the_end_of_the_raw_record_are_counted_and_told(both: dict[str, Take], tmp_path: Path) -> None:
    """As a kill leaves it whose ring was lost: the table goes on, the raw record does not."""
    import shutil

    import h5py

    folder = tmp_path / "take"
    shutil.copytree(both["decades"].folder, folder)
    (folder / "raw.h5").chmod(0o644)
    with h5py.File(folder / "raw.h5", "r+") as file:
        rows = file["pieces"][:]
        ring = int(np.argmax(np.diff(rows[:, 0]) < 0)) if np.any(np.diff(rows[:, 0]) < 0) else len(rows) - 1
        keep = rows[: ring + 1]  # what was kept while it ran, without its last stretch
        end = int(keep[-1, 1])
        file["pieces"].resize((ring, 2))
        for held in file["channels"].values():
            held.resize((end,))
    cut, whole = evaluate_take(Take(folder)), evaluate_take(both["decades"])
    assert cut.reading("cycles").value == pytest.approx(whole.reading("cycles").value, abs=2)
    assert cut.reading("stiffness_final").value == pytest.approx(whole.reading("stiffness_final").value, rel=3e-3)
    assert any("before what was kept of each" in n for n in cut.notes)


def test_of_many_positions_the_last_one_is_read_where_it_stands(tmp_path: Path) -> None:
    recorder = recorded(tmp_path / "t", [True] * 10)
    for i in range(5):
        recorder.event("position", t=0.01 * i, cycle=i, label="a\u2028b")
        recorder.event("note", t=0.01 * i, text=str(i))
    recorder.event("position", t=0.05, cycle=5)
    recorder.event("note", t=0.06, text="last")
    with (tmp_path / "t" / "events.jsonl").open("a", encoding="utf-8") as file:
        file.write('{"kind": "position", "t": 0.07, "cyc')  # as a kill leaves it
    made = read_events(tmp_path / "t" / "events.jsonl")
    assert [e["kind"] for e in made] == [*["note"] * 5, "position", "note"]
    assert made[5]["cycle"] == 5 and Take(tmp_path / "t").position()["cycle"] == 5
