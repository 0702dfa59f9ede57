"""Fixtures that many tests share: a demo lab, a synthetic comparison record, processes that leave nothing behind."""

from __future__ import annotations

import atexit
import datetime
import gc
import os
import shutil
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import settings as hypothesis_settings

from lucid_anvil.engine import nursery

# The same examples every time, and no clock: a machine that pauses must not fail a property.
hypothesis_settings.register_profile("house", derandomize=True, deadline=None)
hypothesis_settings.load_profile("house")

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
# Runs of the tests are not among those of the person at this machine.
os.environ["LUCID_ANVIL_RUNS"] = tempfile.mkdtemp(prefix="lucid-anvil-runs-")
LABS = tempfile.mkdtemp(prefix="lucid-anvil-labs-")
atexit.register(shutil.rmtree, LABS, True)
os.environ["LUCID_ANVIL_LABS"] = str(Path(LABS) / "labs.json")

os.environ["LUCID_ANVIL_AGAIN"] = ""  # no process of a test waits for a server that never comes

# A run's processes are forked from one that has imported all they need; `test_nursery` tries both ways.
WORKS = "PYTEST_XDIST_WORKER" in os.environ or not any(a.startswith("-n") for a in sys.argv)
if WORKS and nursery.PLACE not in os.environ:  # once, however often this file is imported
    NURSERY = nursery.begin(Path(LABS) / "nursery")
    os.environ[nursery.PLACE] = str(Path(LABS) / "nursery")

# Widgets found as garbage by a thread, or in the middle of a picture, take Qt down: looked for between tests only.
gc.disable()

TODAY = datetime.date.today()


@pytest.fixture(autouse=True)
def tidy(request: pytest.FixtureRequest) -> Iterator[None]:
    """Windows are closed and garbage is collected when a test with widgets is over."""
    yield
    if "qapp" in request.fixturenames or gc.get_count()[0] > 200_000:
        from PyQt6.QtWidgets import QApplication

        for left in QApplication.topLevelWidgets():
            left.close()
        gc.collect()


@dataclass
class Synthetic:
    """A made-up comparison record with known truth."""

    rate: float
    channels: dict[str, np.ndarray]
    steps: list[dict[str, float]]
    ratio: dict[float, complex]

    def read(self, start: float, stop: float) -> np.ndarray:
        a, b = int(round(start * self.rate)), int(round(stop * self.rate))
        return np.array([self.channels["reference"][a:b], self.channels["unit"][a:b]])

    def write_csv(self, place: Path, labels: tuple[str, str] = ("reference [V]", "unit [V]")) -> Path:
        import polars

        columns = {labels[0]: self.channels["reference"], labels[1]: self.channels["unit"]}
        with place.open("w") as file:
            file.write(f"# rate_hz={self.rate:g}\n")
            file.write(polars.DataFrame(columns).write_csv(quote_style="never"))
        return place

    def write_settings(self, place: Path, extra: str = "") -> Path:
        rows = "".join(
            f"  - {{frequency: {s['frequency']}, start: {s['start']}, stop: {s['stop']}}}\n" for s in self.steps
        )
        place.write_text(f"reference_sensitivity: 10 mV/(m/s²)\nsteps:\n{rows}{extra}", encoding="utf-8")
        return place


def make_record(
    frequencies: tuple[float, ...] = (20.0, 50.0, 160.0, 1000.0, 5000.0),
    *,
    rate: float = 51200.0,
    dwell: float = 1.5,
    hum: float = 0.01,
    noise: float = 1e-4,
    settle: float = 0.05,
    harmonics: float = 0.005,
    offset: float = 0.02,
    detune: float = 20e-6,
    sensitivity: float = 1.02,
    resonance: float = 30000.0,
    seed: int = 1,
) -> Synthetic:
    """Tones one after the other, with settling, hum at 50 Hz, offset and second harmonic. Reference 0.5 V peak."""
    rng = np.random.default_rng(seed)
    steps, at = [], 0.4
    for f in frequencies:
        steps.append({"frequency": f, "start": round(at, 4), "stop": round(at + dwell, 4)})
        at += dwell + 0.1
    n = int((at + 0.3) * rate)
    t = np.arange(n) / rate
    ref, unit = rng.normal(0, noise, (2, n))
    ratio = {}
    for s in steps:
        f = s["frequency"]
        a, b = int(round(s["start"] * rate)), int(round(s["stop"] * rate))
        u = t[a:b] - s["start"]
        gain = sensitivity / (1 - (f / resonance) ** 2 + 0.02j * f / resonance)
        ratio[f] = complex(gain)
        envelope = 1 - np.exp(-u / settle) if settle else np.ones_like(u)
        angle = 2 * np.pi * f * (1 + detune) * u
        ref[a:b] += envelope * 0.5 * np.cos(angle) + harmonics * 0.5 * np.cos(2 * angle + 1)
        unit[a:b] += envelope * 0.5 * abs(gain) * np.cos(angle + np.angle(gain))
        unit[a:b] += harmonics * 0.5 * np.cos(2 * angle + 1)
    unit += offset + hum * np.cos(2 * np.pi * 50.01 * t + 1) + 0.4 * hum * np.cos(2 * np.pi * 150.03 * t + 2)
    ref -= offset / 4
    return Synthetic(rate, {"reference": ref, "unit": unit}, steps, ratio)


@pytest.fixture(scope="session")
def record() -> Synthetic:
    """The usual synthetic record; not to be changed."""
    return make_record()


@pytest.fixture(scope="session")
def lab_template(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A demo lab to be copied; not to be changed."""
    from lucid_anvil.lab.demo import make_demo

    return make_demo(tmp_path_factory.mktemp("template") / "lab", TODAY).folder


@pytest.fixture
def demo_lab(tmp_path: Path, lab_template: Path) -> Any:
    """A fresh demo lab."""
    from lucid_anvil.lab.place import open_lab

    return open_lab(Path(shutil.copytree(lab_template, tmp_path / "lab")))


@pytest.fixture
def window(qtbot: Any, demo_lab: Any) -> Iterator[Any]:
    """The real window on a fresh demo lab; its runs go as fast as they compute and end with it."""
    from PyQt6.QtWidgets import QApplication
    from tests.test_desktop import leave

    from lucid_anvil.desktop.shell.window import MainWindow

    made = MainWindow(demo_lab, pace="fast")
    made.show()
    QApplication.processEvents()
    yield made
    leave(made)


SHORT = {"start": "63 Hz", "stop": "500 Hz", "steps_per_octave": 1, "dwell": "0.3 s", "settle_run": "0.1 s"}
"""A course of a few seconds."""


def short_plan(lab: Any, changes: dict[str, Any] | None = None, rig: dict[str, Any] | None = None) -> Path:
    """A short comparison plan for GA-11 in the demo lab; `rig` changes parts of the rig file."""
    from lucid_anvil.lab import planning
    from lucid_anvil.lab.textfiles import dump_yaml, load_yaml

    rig_file = lab.rig_file()
    if rig:
        data = load_yaml(rig_file)
        for part, values in rig.items():
            if isinstance(values, dict) and isinstance(data.get(part), dict):
                data[part].update(values)
            else:
                data[part] = values
        rig_file.write_text(dump_yaml(data), encoding="utf-8")
    settings = {**SHORT, "insert": False, **(changes or {})}
    plan = planning.calibration_plan(lab, "GA-11", today=TODAY, changes=settings)
    return planning.write_plan(lab, "GA-11", plan)


@pytest.fixture
def kept(demo_lab: Any) -> Any:
    """A take with a finding, made without processes."""
    import json

    from lucid_anvil.engine.inprocess import play_through
    from lucid_anvil.engine.preparing import plan_as_kept, prepare, rig_as_kept
    from lucid_anvil.lab.takes import begin_take
    from lucid_anvil.lab.textfiles import dump_yaml

    prepared = prepare(short_plan(demo_lab))
    played = play_through(prepared)
    folder = prepared.plan_file.parent / "take-001"
    take = begin_take(folder, dump_yaml(plan_as_kept(prepared)), dump_yaml(rig_as_kept(prepared)))
    event = {"kind": "begin", "wall": datetime.datetime.now().timestamp(), "temperature": 21.4, "humidity": 46.0}
    end = {"kind": "end", "t": 60.0, "status": "done", "reason": None}
    (folder / "events.jsonl").write_text(json.dumps(event) + "\n" + json.dumps(end) + "\n")
    take.keep(prepared.method.evaluate(played.channels, prepared.settings, played.marks))
    return take


@dataclass
class Running:
    """A conductor under test."""

    address: Any
    process: Any
    take: Path

    def board(self) -> Any:
        from lucid_anvil.engine import launch

        return launch.get_board(self.address)

    def wait(self, done: Callable[[Any], bool], timeout: float = 180.0) -> Any:
        """The first board of which `done` is true."""
        until = time.monotonic() + timeout
        board = None
        while time.monotonic() < until:
            try:
                board = self.board()
            except OSError:
                time.sleep(0.05)
                continue
            if done(board):
                return board
            time.sleep(0.03)
        raise AssertionError(f"not reached in {timeout} s: {board and (board.state, board.t, board.message)}")

    def over(self, timeout: float = 240.0) -> Any:
        return self.wait(lambda b: b.state in ("done", "failed"), timeout)


@pytest.fixture
def conduct(tmp_path: Path) -> Iterator[Callable[..., Running]]:
    """Starts conductors; ends whatever is left of them."""
    from lucid_anvil.engine import launch

    started: list[Running] = []

    def start(plan: Path, pace: str = "fast", auto: str | None = "T.T.", name: str = "take") -> Running:
        note, take = tmp_path / f"{name}.door.json", plan.parent / name
        log = tmp_path / f"{name}.log"
        process = launch.start(plan, None, take, pace, note, auto, log)
        running = Running(launch.wait_for(note, process, 60), process, take)
        started.append(running)
        return running

    yield start
    for running in started:
        if running.process.poll() is None:
            try:
                launch.order(running.address, "stop", why="test over")
                launch.order(running.address, "close")
                running.process.wait(15)
            except Exception:
                running.process.kill()
                running.process.wait(5)
