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
    if channels == 2:  # without a current nothing is there for its guard
        rig["guards"] = [g for g in rig.get("guards") or [] if g["watch"] != "current"]
    lab.rig_file().write_text(dump_yaml(rig), encoding="utf-8")
    plan = planning.calibration_plan(lab, "GA-11", today=today, changes={"dwell": "2 s"})
    return lab, planning.write_plan(lab, "GA-11", plan)


def shaker_lab(folder: Path, channels: int, physics: bool, method: str, rate: str = "51.2 kHz", seconds: float = 70.0
               ) -> Path:  # fmt: skip
    """A demo lab whose shaker rig has so many channels at a rate, and a plan on it."""
    from lucid_anvil.lab.demo import make_demo
    from lucid_anvil.lab.textfiles import dump_yaml, load_yaml

    lab = make_demo(folder, datetime.date.today())
    place = lab.folder / "rigs" / "shaker.rig.yaml"
    rig = load_yaml(place)
    rig["front_end"] |= {"rate": rate, "block": 2048 if rate == "51.2 kHz" else 400}
    for i in range(4, channels):
        rig["channels"].append({"role": f"more{i}", "input": i + 1, "range": "10 V", "sensor": "GA-21"})
    rig["standin"]["physics"] = physics
    if not physics:
        rig["guards"] = [{"watch": w, "limit": v} for w, v in
                         (("drive", 9.9), ("current", 1e3), ("stroke", 1e3), ("acceleration", 1e6))]  # fmt: skip
        rig["guards"] += [
            {"watch": "overload"},
            {"watch": "supply"},
            {"watch": "interlock"},
            {"watch": "disk", "limit": 2e8},
        ]
    place.write_text(dump_yaml(rig), encoding="utf-8")
    name = {"sine-sweep": "sine", "random-vibration": "random"}[method]
    file = lab.jobs / (lab.facts.job or "") / "battery-tray" / name / f"{name}.plan.yaml"
    plan = load_yaml(file)
    settings = plan["steps"][0]["settings"]
    settings["control"] = {"probe": {"on": physics or name == "random", "period": "2 s"}}
    settings["course"] = [{"sweep": "both", "total": f"{seconds} s"}] if name == "sine" else [
        {"random": True, "duration": f"{seconds} s"}]  # fmt: skip
    if not physics:
        plan["walk_round"] = []
        profile = file.with_name(f"{name}.profile.yaml")
        held = load_yaml(profile)
        held.pop("abort")
        profile.write_text(dump_yaml(held), encoding="utf-8")
    file.write_text(dump_yaml(plan), encoding="utf-8")
    return file


def frame_lab(folder: Path) -> Path:
    """A lab whose frame has six channels at 5 kHz, and pulses on it."""
    from lucid_anvil.engine.newplan import begin_plan
    from lucid_anvil.lab.beginning import begin_lab
    from lucid_anvil.lab.editing import put
    from lucid_anvil.lab.textfiles import dump_yaml, load_yaml

    lab = begin_lab(folder, "Bench of one", [], "K.B.", True)
    place = lab.folder / "rigs" / "pulser.rig.yaml"
    rig = load_yaml(place)
    rig["front_end"]["rate"] = "5 kHz"
    for i in range(4):
        rig["channels"].append({"role": f"way{i}", "input": 3 + i, "kind": "length", "range": "10 V", "sensor": "GX-02",
                                "sensitivity": "0.2 V/mm", "supply": "off"})  # fmt: skip
    place.write_text(dump_yaml(rig), encoding="utf-8")
    plan = begin_plan("cyclic", place, "Fender", lab.jobs / "a" / "a.plan.yaml", lab=lab)
    put(plan, ("pulse",), {"frequency": "2 Hz", "cycles": 400})
    return plan


def frame_speed() -> float:
    """Times real time of a frame's loop, all processes, guards, recorder and door on."""
    with tempfile.TemporaryDirectory() as work:
        return speed_of(frame_lab(Path(work) / "lab"), Path(work))[0]


def resident(pids: list[int]) -> float:
    """MB of memory that processes hold."""
    total = 0.0
    for pid in pids:
        for line in Path(f"/proc/{pid}/status").read_text().splitlines():
            if line.startswith("VmRSS"):
                total += float(line.split()[1]) / 1024
    return total


def family(pid: int) -> list[int]:
    """A process and all below it."""
    made = [pid]
    for child in Path(f"/proc/{pid}/task/{pid}/children").read_text().split():
        made += family(int(child))
    return made


def speed_of(plan: Path, work: Path, seconds: float = 60.0, memory: bool = False) -> tuple[float, list[float]]:
    """Simulated seconds per second of wall time, all processes, guards, recorder and door on; and the memory [MB]
    of all of them along the run."""
    from lucid_anvil.engine import launch

    note = work / "door.json"
    process = launch.start(plan, None, plan.parent / "take", "fast", note, "bench", work / "log")
    address = launch.wait_for(note, process, 60)
    first = last = None
    held: list[float] = []
    while True:
        board = launch.get_board(address, 20.0)
        if board.state == "running" and board.t > 1:
            now = (time.perf_counter(), board.t)
            first = first or now
            last = now
            if memory and (not held or board.t > 60 * len(held)):
                held.append(resident(family(process.pid)))
        if board.state in ("done", "failed"):
            break
        if first and last and last[1] - first[1] > seconds:
            launch.order(address, "stop", why="bench over")
            break
        time.sleep(0.25)
    launch.order(address, "close")
    process.terminate()
    process.wait(20)
    if not first or not last or last[0] == first[0]:
        raise RuntimeError((work / "log").read_text() + str(board.message))
    return (last[1] - first[1]) / (last[0] - first[0]), held


FLOOD = """
import json, pathlib, socket, sys, time
note = pathlib.Path(sys.argv[1])
while not note.exists():
    time.sleep(0.1)
port = json.loads(note.read_text())["port"]
idle = [socket.create_connection(("127.0.0.1", port)) for _ in range(200)]
until, count = time.monotonic() + float(sys.argv[2]), 0
while time.monotonic() < until:
    with socket.create_connection(("127.0.0.1", port)) as s:
        long = 100_000_000 if count % 50 == 0 else 0
        head = ["POST /mark HTTP/1.1", "Host: x", "Authorization: Bearer no", f"Content-Length: {long}", "", ""]
        s.sendall("\\r\\n".join(head).encode())
        s.recv(200)
    count += 1
    time.sleep(max(0.0, 0.001 - 1e-4))
print(count)
"""
"""Two hundred idle connections, and wrong tokens as fast as they go, some with a body of 100 MB said to follow"""


WATCHED = """
import ssl, sys, threading, time, httpx
port, word, ca, seconds = int(sys.argv[1]), sys.argv[2], sys.argv[3], float(sys.argv[4])
trusted = ssl.create_default_context(cafile=ca)
counts = []
def page():
    with httpx.Client(verify=trusted, trust_env=False, timeout=20) as http:
        until, n = time.monotonic() + seconds, 0
        while time.monotonic() < until:
            heads = {"Authorization": "Bearer " + word}
            n += http.get(f"https://127.0.0.1:{port}/seen", headers=heads).status_code == 200
            time.sleep(1.0)
        counts.append(n)
pages = [threading.Thread(target=page) for _ in range(10)]
[p.start() for p in pages]; [p.join() for p in pages]
print(sum(counts))
"""
"""Ten pages of the Lookout, each looking once a second"""


def flooded() -> str:
    """Blocks of a run in real pace that came late: left alone, its door under attack, ten pages of the Lookout open."""
    from lucid_anvil.engine import launch
    from lucid_anvil.formats.hdf5file import read_events
    from lucid_anvil.lookout.keys import keys
    from lucid_anvil.lookout.serve import start, stop

    made = []
    for how in ("left alone", "attacked", "watched"):
        with tempfile.TemporaryDirectory() as work:
            _, plan = lab_with(Path(work) / "lab", 4, True)
            note = Path(work) / "door.json"
            process = launch.start(plan, None, plan.parent / "take", "real", note, "bench", Path(work) / "log")
            address = launch.wait_for(note, process, 60)
            flood = None
            if how == "watched":
                on = start(port=0, host="127.0.0.1")
                words = [sys.executable, "-c", WATCHED, str(on.port), keys().look, on.certificate, "20"]
                flood = subprocess.Popen(words, stdout=subprocess.PIPE, text=True)
            elif how == "attacked":
                words = [sys.executable, "-c", FLOOD, str(note), "20"]
                flood = subprocess.Popen(words, stdout=subprocess.PIPE, text=True)
            began, steps = time.monotonic(), []
            last = (time.perf_counter(), launch.get_board(address, 20.0).t)
            while time.monotonic() - began < 20:
                time.sleep(1.0)
                board = launch.get_board(address, 20.0)
                now = (time.perf_counter(), board.t)
                if board.state == "running" and last[1] > 0:
                    steps.append((now[1] - last[1]) / (now[0] - last[0]))
                last = now
            launch.order(address, "stop", why="bench over")
            told = read_events(plan.parent / "take" / "guards.jsonl")
            late = sum(1 for e in told if e["kind"] == "trip" and e.get("guard") in ("late", "conductor"))
            what = "wrong tokens" if how == "attacked" else "looks from ten pages"
            hits = f", {flood.communicate()[0].strip()} {what}" if flood else ""
            if how == "watched":
                stop()
            pace = f"pace {min(steps):.3f} to {max(steps):.3f} of real time" if steps else "it did not run"
            made.append(f"{how}: {pace}, {late} late blocks{hits}")
            process.terminate()
            process.wait(20)
    return "; ".join(made)


def catalogue() -> str:
    """Milliseconds of queries of a catalogue of 100 000 takes with three readings each, the best of three."""
    import random

    from lucid_anvil.lab.beginning import begin_lab
    from lucid_anvil.lab.catalogue import Catalogue, readings, relied, takes, units
    from lucid_anvil.lab.querying import parsed

    rng, count = random.Random(1), 100_000
    kinds = (("thd", "%"), ("gain", "dB"), ("noise", "V"))
    with tempfile.TemporaryDirectory() as work:
        held = Catalogue(begin_lab(Path(work) / "lab", "Bench", [], "K.B.", False))
        with held.engine.begin() as link:
            link.execute(units.insert(), [{"key": k, "unit": u} for k, u in kinds])
            for a in range(0, count, 20_000):
                part = range(a, a + 20_000)
                link.execute(takes.insert(), [
                    {"id": i + 1, "path": f"jobs/{i % 300}/take-{i}", "stamp": "x", "job": str(i % 300),
                     "title": "Check", "article": f"FS-{i % 5000}", "method": ("output-distortion", "tension")[i % 2],
                     "status": "done",
                     "verdict": ("inside", "outside")[i % 20 == 7], "complete": True,
                     "begun": datetime.datetime(2020, 1, 1) + datetime.timedelta(minutes=3 * i),
                     "words": f"fs-{i % 5000} check {i % 300}"} for i in part])  # fmt: skip
                link.execute(readings.insert(), [
                    {"take_id": i + 1, "key": k, "value": rng.lognormvariate(-1, 1), "unit": u, "verdict": "inside",
                     "valid": True} for i in part for k, u in kinds])  # fmt: skip
                link.execute(relied.insert(), [{"take_id": i + 1, "serial": f"GA-{i % 200}", "role": "unit",
                                                "certificate": "c"} for i in part])  # fmt: skip
            link.exec_driver_sql("analyze")
        made = []
        for text in ("article=FS-77", "FS-77 thd>0.5%", "thd>15%", "article=FS-77 thd:rose>50% within=365d",
                     "sensor=GA-7 verdict=outside", "nothing"):  # fmt: skip
            spent = []
            for _ in range(3):
                began = time.perf_counter()
                held.find(parsed(text), 200)
                spent.append(time.perf_counter() - began)
            made.append(f"'{text}' {1e3 * min(spent):.0f} ms")
        held.close()
    return ", ".join(made)


def loop_speed(channels: int, physics: bool) -> float:
    """Of the comparison."""
    with tempfile.TemporaryDirectory() as work:
        _, plan = lab_with(Path(work) / "lab", channels, physics)
        return speed_of(plan, Path(work))[0]


def shaker_speed(method: str, physics: bool) -> float:
    """Of a shaker run with 8 channels at 51.2 kS/s."""
    with tempfile.TemporaryDirectory() as work:
        return speed_of(shaker_lab(Path(work) / "lab", 8, physics, method), Path(work), 45.0)[0]


def an_hour() -> str:
    """Memory of all processes over an hour of simulated running of a sine at 10.24 kS/s."""
    with tempfile.TemporaryDirectory() as work:
        plan = shaker_lab(Path(work) / "lab", 4, True, "sine-sweep", "10.24 kHz", 3700.0)
        speed, held = speed_of(plan, Path(work), 3600.0, True)
    told = f"{held[1]:.0f} MB after a minute, {held[len(held) // 2]:.0f} MB half way, {held[-1]:.0f} MB at the end"
    return f"{told} ({speed:.1f} times real time)"


def window_loop() -> str:
    """Lateness of the window's event loop while a real-pace run streams into it."""
    from lucid_anvil.desktop.shell.demo import application
    from lucid_anvil.desktop.shell.story import wait_until
    from lucid_anvil.desktop.shell.window import MainWindow

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
        course = window.bench.kinds["comparison"].course
        wait_until(lambda: window.bench.state == "running" and len(course.done) > 0, 60)
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
from lucid_anvil.desktop.shell.demo import application
app = application()
from lucid_anvil.desktop.shell.window import MainWindow
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

    from lucid_anvil.contracts.recording import channel_of
    from lucid_anvil.formats import Recording, write

    with tempfile.TemporaryDirectory() as work:
        t = np.arange(51200) / 51200
        x = np.sin(2 * np.pi * 160 * t)
        channels = (channel_of("reference", "V", 51200, x), channel_of("unit", "V", 51200, 0.98 * x))
        write(Path(work) / "r.csv", Recording("made", channels))
        settings = Path(work) / "s.yaml"
        settings.write_text("reference_sensitivity: 10 mV/(m/s^2)\nsteps: [{frequency: 160, start: 0, stop: 1}]\n")
        return command("evaluate", "accelerometer-comparison", str(Path(work) / "r.csv"), "--settings", str(settings))


def spectra_ratio() -> str:
    """Averaged auto and cross spectra of 8 channels x 60 s x 51.2 kS/s over the bare transforms they need, by numpy and
    by the library that we use; the same done by scipy.signal beside them, and how far the two are apart."""
    import numpy as np
    import pyfftw
    from scipy import signal

    from lucid_anvil.core.signal.framing import PIECE
    from lucid_anvil.core.signal.spectra import averaged

    rate, channels, frame = 51200, 8, 8192
    x = np.random.default_rng(1).standard_normal((channels, 60 * rate))
    bare, planned, ours = [], [], []
    given, lines = (
        pyfftw.empty_aligned((channels, frame)),
        pyfftw.empty_aligned((channels, frame // 2 + 1), "complex128"),
    )
    given[:] = x[:, :frame]
    plan = pyfftw.FFTW(given, lines, axes=(1,), flags=("FFTW_ESTIMATE",))
    for _ in range(6):
        before = time.perf_counter()
        for a in range(0, x.shape[1] - frame + 1, frame // 2):
            np.fft.rfft(x[:, a : a + frame], axis=1)
        bare.append(time.perf_counter() - before)
        before = time.perf_counter()
        for _a in range(0, x.shape[1] - frame + 1, frame // 2):
            plan.execute()
        planned.append(time.perf_counter() - before)
        before = time.perf_counter()
        made = averaged((x[:, a : a + PIECE] for a in range(0, x.shape[1], PIECE)), channels, rate, frame)
        ours.append(time.perf_counter() - before)
    before = time.perf_counter()
    _, auto = signal.welch(x, rate, nperseg=frame, detrend="constant")
    _, cross = signal.csd(x[0], x, rate, nperseg=frame, detrend="constant")
    theirs = time.perf_counter() - before
    inner = slice(1, -1)
    off = max(
        float(np.max(np.abs(auto[:, inner] / made.auto[:, inner] - 1))),
        float(np.max(np.abs(cross[:, inner] - made.cross[:, inner])) / np.max(np.abs(cross))),
    )
    return (
        f"{min(ours) / min(bare):.2f} times numpy's bare transforms, {min(ours) / min(planned):.2f} times FFTW's;"
        f" scipy.signal {theirs / min(bare):.1f} times;"
        f" apart by {off:.0e}"
    )


def long_record() -> str:
    """100 million samples in a take's own format: the first picture once indexed, and zooming."""
    import h5py
    import numpy as np

    from lucid_anvil.desktop.lightbox.record_view import RecordView
    from lucid_anvil.desktop.shell.demo import application
    from lucid_anvil.formats import read
    from lucid_anvil.formats.hdf5file import FORMAT, describe

    app = application()
    with tempfile.TemporaryDirectory() as work:
        place = Path(work) / "raw.h5"
        count = 100_000_000
        with h5py.File(place, "w", libver="latest") as file:
            file.attrs["format"] = np.bytes_(FORMAT)
            data = file.create_dataset("channels/000", shape=(count,), dtype="f8", chunks=(65536,))
            describe(data, "x", "V", 1000.0, {})
            rng = np.random.default_rng(1)
            for a in range(0, count, 1 << 22):
                data[a : a + (1 << 22)] = rng.standard_normal(min(1 << 22, count - a))

        def opened() -> tuple[RecordView, float]:
            before = time.perf_counter()
            view = RecordView()
            view.resize(1000, 600)
            view.show()
            view.show_recording(read(place), Path(work) / "cache")
            while "x" not in view.chart.series:
                app.processEvents()
                time.sleep(0.002)
            view.grab()
            return view, time.perf_counter() - before

        _, indexed = opened()
        view, again = opened()
        late = []
        for k in range(60):
            before = time.perf_counter()
            middle, half = 5e4, 5e4 * 0.8**k
            view.chart.setXRange(middle - half, middle + half, padding=0)
            view.grab()
            late.append(time.perf_counter() - before)
        late.sort()
        view.close()
    return (
        f"indexed and drawn in {indexed:.1f} s once, afterwards {1e3 * again:.0f} ms; a picture while zooming"
        f" {1e3 * late[30]:.0f} ms, at most {1e3 * late[-1]:.0f} ms"
    )


def many_curves() -> str:
    """One million points in each of eight curves, dragged along: pictures a second."""
    import numpy as np

    from lucid_anvil.contracts.recording import channel_of
    from lucid_anvil.desktop.lightbox.record_view import RecordView
    from lucid_anvil.desktop.shell.demo import application
    from lucid_anvil.formats import Recording

    app = application()
    rng = np.random.default_rng(2)
    channels = tuple(channel_of(f"c{i}", "V", 1000.0, rng.standard_normal(1_000_000)) for i in range(8))
    view = RecordView()
    view.most = 8
    view.resize(1000, 600)
    view.show()
    view.show_recording(Recording("eight", channels), None)
    app.processEvents()
    before, count = time.perf_counter(), 0
    while time.perf_counter() - before < 5.0:
        view.chart.setXRange(count % 50, 950 + count % 50, padding=0)
        view.grab()
        count += 1
    view.close()
    return f"{count / (time.perf_counter() - before):.0f} pictures a second"


def many_things() -> str:
    """A lab of 1000 takes, 300 sensors and 60 plans: ledger, docket and Ctrl+K, each in ms, the best of five."""
    code = r"""
import os, sys, json, time, tempfile
os.environ['QT_QPA_PLATFORM'] = 'offscreen'
os.environ['LUCID_ANVIL_LABS'] = tempfile.mkdtemp() + '/labs.json'
from pathlib import Path
from lucid_anvil.desktop.shell.demo import application
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.ledger import Sensor
from lucid_anvil.engine.newplan import begin_plan
from lucid_anvil.lab.finding_things import find, things
app = application()
lab = begin_lab(Path(tempfile.mkdtemp()) / 'lab', 'Bench', [], 'K.B.', True)
ledger = lab.ledger()
for i in range(300):
    ledger.add(Sensor(f'N-{i:03d}', 'accelerometer', nominal=10.0))
ledger.close()
rig = lab.folder / 'rigs' / 'shaker.rig.yaml'
first = begin_plan('random-vibration', rig, 'Unit 0', lab.jobs / 'j' / 'unit-0' / 'r' / 'r.plan.yaml', lab=lab)
text = first.read_text()
for i in range(1, 60):
    p = lab.jobs / 'j' / f'unit-{i}' / 'r' / 'r.plan.yaml'
    p.parent.mkdir(parents=True)
    p.write_text(text)
for i in range(1000):
    t = lab.jobs / 'j' / f'unit-{i % 60}' / 'r' / f'take-{i // 60 + 1:03d}'
    t.mkdir()
    (t / 'plan.yaml').write_text(text)
    (t / 'events.jsonl').write_text(json.dumps({'kind': 'end', 't': 1.0, 'status': 'done', 'reason': None}) + chr(10))
from lucid_anvil.desktop.shell.window import MainWindow
w = MainWindow(lab); w.show(); app.processEvents(); w.bench
def best(act):
    took = []
    for _ in range(5):
        a = time.perf_counter(); act(); app.processEvents(); took.append(1e3 * (time.perf_counter() - a))
    return min(took)
held = things(lab)
docket = best(lambda: w.bench.docket.show_plan(first, None, False))
print(f"ledger {best(lambda: w.ledger.reload()):.0f} ms, docket {docket:.0f} ms,"
      f" Ctrl+K opens in {best(lambda: things(lab)):.0f} ms, finds in {best(lambda: find(held, 'unit 17')):.1f} ms")
os._exit(0)
"""
    return subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout.strip()


def main() -> None:
    print(f"machine: a sleep of 10 ms is late by {machine_jitter()}", flush=True)
    for channels in (2, 8):
        for physics in (True, False):
            name = "with the stand-in" if physics else "without it"
            print(f"loop, {channels} channels, {name}: {loop_speed(channels, physics):.1f} times real time", flush=True)
    for method in ("sine-sweep", "random-vibration"):
        for physics in (True, False):
            name = "with the stand-in" if physics else "without it"
            print(f"{method}, 8 channels, {name}: {shaker_speed(method, physics):.1f} times real time", flush=True)
    print(f"load frame, 6 channels at 5 kHz: {frame_speed():.1f} times real time", flush=True)
    print(f"door {flooded()}", flush=True)
    print(f"averaged spectra: {spectra_ratio()}", flush=True)
    print(f"100 million samples: {long_record()}", flush=True)
    print(f"1000 takes, 300 sensors, 60 plans: {many_things()}", flush=True)
    print(f"100 000 takes in the catalogue: {catalogue()}", flush=True)
    print(f"one million points in eight curves: {many_curves()}", flush=True)
    if "--hour" in sys.argv:
        print(f"an hour: {an_hour()}", flush=True)
    print(f"window event loop while a run streams: late by {window_loop()}", flush=True)
    print(f"window opens in {window_opens():.2f} s", flush=True)
    print(f"--help in {command('--help'):.2f} s", flush=True)
    print(f"evaluate of a one-second file in {evaluate_one_second():.2f} s", flush=True)


if __name__ == "__main__":
    main()
