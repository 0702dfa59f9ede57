"""Speeds, as ratios: the closed loop against real time, the window's event loop, start-up. Prints one line each."""

from __future__ import annotations

import datetime
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")


def machine_jitter() -> str:
    """How late a sleep of 10 ms is on this machine when nothing else runs: what all else here stands on."""
    late = []
    for _ in range(300):
        before = time.perf_counter()
        time.sleep(0.01)
        late.append(1e3 * (time.perf_counter() - before) - 10)
    late.sort()
    return f"p50 {late[150]:.1f} ms, p99 {late[297]:.1f} ms, max {late[-1]:.1f} ms"


def lab_with(folder: Path, channels: int, physics: bool) -> tuple[Any, Path]:
    """A demo lab whose rig has so many channels, and a plan on it."""
    from lucid_anvil.lab import planning
    from lucid_anvil.lab.demo import make_demo
    from lucid_anvil.lab.textfiles import dump_yaml, load_yaml

    today = datetime.date.today()
    lab = make_demo(folder, today)
    rig = load_yaml(lab.rig_file())
    if channels == 2:
        rig["channels"] = rig["channels"][:2]
    for i in range(4, channels):
        rig["channels"].append({"role": f"more{i}", "input": i + 1, "range": "1 V", "sensor": "GA-21"})
    rig["standin"]["physics"] = physics
    if not physics:
        rig["guards"] = [{"watch": w, "limit": v} for w, v in
                         (("drive", 4.95), ("current", 1e3), ("stroke", 1e3), ("acceleration", 1e6))]  # fmt: skip
        rig["guards"] += [{"watch": "overload"}, {"watch": "supply"}, {"watch": "disk", "limit": 2e8}]
    lab.rig_file().write_text(dump_yaml(rig), encoding="utf-8")
    plan = planning.calibration_plan(lab, "GA-11", today=today, changes={"dwell": "2 s"})
    return lab, planning.write_plan(lab, "GA-11", plan)


def loop_speed(channels: int, physics: bool) -> float:
    """Simulated seconds per second of wall time, all processes, guards, recorder and door on."""
    from lucid_anvil.engine import launch

    with tempfile.TemporaryDirectory() as work:
        _, plan = lab_with(Path(work) / "lab", channels, physics)
        note = Path(work) / "door.json"
        process = launch.start(plan, None, plan.parent / "take", "fast", note, "bench", Path(work) / "log")
        address = launch.wait_for(note, process, 60)
        first = last = None
        while True:
            board = launch.get_board(address)
            if board.state == "running" and board.t > 1:
                now = (time.perf_counter(), board.t)
                first = first or now
                last = now
            if board.state in ("done", "failed"):
                break
            if first and last and last[1] - first[1] > 60:
                launch.order(address, "stop", why="bench over")
                break
            time.sleep(0.25)
        launch.order(address, "close")
        process.terminate()
        process.wait(20)
        if not first or not last or last[0] == first[0]:
            raise RuntimeError((Path(work) / "log").read_text())
        return (last[1] - first[1]) / (last[0] - first[0])


def window_loop() -> str:
    """Lateness of the window's event loop while a real-pace run streams into it."""
    from lucid_anvil.desktop.demo import application, wait_until
    from lucid_anvil.desktop.window import MainWindow

    with tempfile.TemporaryDirectory() as work:
        lab, plan = lab_with(Path(work) / "lab", 4, True)
        app = application()
        window = MainWindow(lab, "real")
        window.show()
        window.go("Bench")
        window.bench.open_plan(plan)
        wait_until(lambda: window.bench.state == "walk-round" and bool(window.bench.walk.shown), 60)
        for check in window.bench.walk.shown:
            if check.kind == "signed":
                window.link.order("sign", key=check.key, by="B")
        wait_until(window.bench.walk.go.isEnabled, 30)
        window.link.order("begin")
        wait_until(lambda: window.bench.state == "running" and len(window.bench.course.done) > 0, 60)
        assert app is not None
        window.ticks.begin()
        end = time.monotonic() + 20
        while time.monotonic() < end:
            from PyQt6.QtCore import QEventLoop
            from PyQt6.QtWidgets import QApplication

            QApplication.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
        late = sorted(window.ticks.late)
        window.bench.stop()
        wait_until(lambda: window.bench.state == "done", 60)
        window.link.close_run()
        wait_until(lambda: False, 0.5)
        window.close()
        return f"p50 {late[len(late) // 2]:.1f} ms, p99 {late[int(0.99 * len(late))]:.1f} ms, max {late[-1]:.1f} ms"


OPEN = """
import time; t = time.perf_counter()
from pathlib import Path
from lucid_anvil.lab.place import open_lab
from lucid_anvil.desktop.demo import application
app = application()
from lucid_anvil.desktop.window import MainWindow
w = MainWindow(open_lab(Path({folder!r}))); w.show(); app.processEvents(); app.processEvents()
print(time.perf_counter() - t)
"""


def window_opens() -> float:
    """s from interpreter ready to the window painted and answering, second start."""
    from lucid_anvil.lab.demo import make_demo

    with tempfile.TemporaryDirectory() as work:
        make_demo(Path(work) / "lab", datetime.date.today())
        code = OPEN.format(folder=str(Path(work) / "lab"))
        times = [
            float(subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout)
            for _ in range(4)
        ]
        return sorted(times[1:])[1]


def command(*words: str) -> float:
    """Median wall seconds of a command."""
    times = []
    for _ in range(5):
        before = time.perf_counter()
        subprocess.run([sys.executable, "-m", "lucid_anvil.cli", *words], capture_output=True, check=False)
        times.append(time.perf_counter() - before)
    return sorted(times)[2]


def evaluate_one_second() -> float:
    """s for `evaluate` of a one-second file."""
    import numpy as np

    from lucid_anvil.formats import Recording, write
    from lucid_anvil.formats.recording import channel_of

    with tempfile.TemporaryDirectory() as work:
        t = np.arange(51200) / 51200
        x = np.sin(2 * np.pi * 160 * t)
        channels = (channel_of("reference", "V", 51200, x), channel_of("unit", "V", 51200, 0.98 * x))
        write(Path(work) / "r.csv", Recording("made", channels))
        settings = Path(work) / "s.yaml"
        settings.write_text("reference_sensitivity: 10 mV/(m/s^2)\nsteps: [{frequency: 160, start: 0, stop: 1}]\n")
        return command("evaluate", "accelerometer-comparison", str(Path(work) / "r.csv"), "--settings", str(settings))


def main() -> None:
    print(f"machine: a sleep of 10 ms is late by {machine_jitter()}", flush=True)
    for channels in (2, 8):
        for physics in (True, False):
            name = "with the stand-in" if physics else "without it"
            print(f"loop, {channels} channels, {name}: {loop_speed(channels, physics):.1f} times real time", flush=True)
    print(f"window event loop while a run streams: late by {window_loop()}", flush=True)
    print(f"window opens in {window_opens():.2f} s", flush=True)
    print(f"--help in {command('--help'):.2f} s", flush=True)
    print(f"evaluate of a one-second file in {evaluate_one_second():.2f} s", flush=True)


if __name__ == "__main__":
    main()
