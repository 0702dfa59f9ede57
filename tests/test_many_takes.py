"""Takes found again and read anew, a ledger that moves, and front ends that break the device link's rules."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import signal
import threading
import time
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from tests.test_desktop import until

from lucid_anvil.cli import app
from lucid_anvil.core.errors import BadInput
from lucid_anvil.engine import rereading
from lucid_anvil.engine.adopting import Adoption, adopt
from lucid_anvil.engine.conformance import ask_instruments, finding_of, try_rig
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.catalogue import Catalogue
from lucid_anvil.lab.ledger import Calibration, Sensor
from lucid_anvil.lab.moving import move_ledger
from lucid_anvil.lab.place import Lab, open_lab
from lucid_anvil.lab.querying import parsed
from lucid_anvil.lab.takes import list_takes
from lucid_anvil.rig.device import InputBlock, Wire, wire_pair


@pytest.fixture
def lab(tmp_path: Path) -> Lab:
    """A lab with six hoses, held at one pressure after another; each leaks more than the one before."""
    made = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True)
    rng = np.random.default_rng(1)
    for i in range(6):
        place = tmp_path / f"hose {i}.csv"
        t = np.arange(0, 7200, 60.0)
        p = 5 - (1 + i) * 1e-3 * t / 3600 + 1e-5 * rng.standard_normal(t.size)
        place.write_text("time [s],pressure [bar]\n" + "".join(f"{a:.0f},{b:.7f}\n" for a, b in zip(t, p, strict=True)))
        os.utime(place, (1.7e9 + 86400 * i, 1.7e9 + 86400 * i))
        limits = {"decay": {"high": "0.0035 bar/h"}}
        adopt(made, Adoption(place, "pressure-hold", f"Hose {'AB'[i % 2]}", {}, {"limits": limits}, f"Night {i}"))
    return made


def found(lab: Lab, text: str) -> list[str]:
    catalogue = Catalogue(lab)
    try:
        catalogue.refresh()
        return [f.title for f in catalogue.find(parsed(text))]
    finally:
        catalogue.close()


@pytest.mark.parametrize(
    ("text", "nights"),
    [("", [5, 4, 3, 2, 1, 0]), ("article='Hose A'", [4, 2, 0]), ("decay>0.0035bar/h", [5, 4, 3]),
     ("decay>350Pa/h", [5, 4, 3]), ("verdict=outside article~b", [5, 3]), ("decay<=0.0021bar/h night", [1, 0]),
     ("since=2023-11-17", [5, 4, 3]), ("before=2023-11-16 method=pressure-hold", [1, 0]), ("method!=pressure-hold", []),
     ("decay:rose>150%", [5, 4, 2]), ("decay:rose>60% within=3d", [4, 3, 2]), ("hose night quay", []), ("'night 3'", [3]),
     ("decay:fell>1%", []), ("sensor=X-1", [])],
)  # fmt: skip
def test_takes_are_found_by_what_was_measured(lab: Lab, text: str, nights: list[int]) -> None:
    assert found(lab, text) == [f"Night {i}" for i in nights]


@pytest.mark.parametrize(
    ("text", "why"),
    [("artcle=x", "did you mean 'article'"), ("decay>5kg", "another kind of unit"), ("since=monday", "no day"),
     ("article>3", "compared by"), ("'open", "no end"), ("decay:rose=5%", "by > or <"), ("decay~5", "is compared by")],
)  # fmt: skip
def test_a_query_that_is_not_understood_is_refused(lab: Lab, text: str, why: str) -> None:
    with pytest.raises(BadInput, match=why):
        found(lab, text)


def test_the_catalogue_follows_the_folders_and_is_never_the_only_truth(lab: Lab) -> None:
    assert len(found(lab, "decay>0bar/h")) == 6
    takes = list_takes(lab.jobs)
    shutil.rmtree(takes[0].folder)
    assert len(found(lab, "")) == 5
    (takes[1].folder / "plan.yaml").write_text("no plan")
    (lab.folder / "catalogue.sqlite").write_bytes(b"no database at all, but long enough to be taken for one" * 40)
    with pytest.raises(BadInput, match="rebuild"):
        found(lab, "")
    (lab.folder / "catalogue.sqlite").unlink()
    catalogue = Catalogue(lab)
    count, wrong = catalogue.rebuild()
    assert count == 5 and len(wrong) == 1 and "plan.yaml" in wrong[0]
    assert sum(catalogue.facets(parsed(""))["verdict"].values()) == 4
    catalogue.close()


def test_takes_are_read_anew_beside_what_counts(lab: Lab, tmp_path: Path) -> None:
    settings = tmp_path / "later.yaml"
    settings.write_text("window: {from: 0 s, to: 1 h}\nlimits: {decay: {high: 0.0055 bar/h}}\n")
    out = tmp_path / "out.json"
    before = {t.folder: t.counted() for t in list_takes(lab.jobs)}
    command = [
        "reread",
        "--where",
        "decay>0.0015bar/h",
        "--settings",
        str(settings),
        "--lab",
        str(lab.folder),
        "--json",
        str(out),
    ]
    assert app(command, standalone_mode=False) == 1  # the last hose is still outside
    told = json.loads(out.read_text())
    assert told["takes"] == 5 and len(told["turned"]) == 2 and not told["failed"]
    for take in list_takes(lab.jobs):
        assert take.counted() == before[take.folder]
        assert len(take.finding_files()) == (1 if take.finding().reading("decay").value < 0.0015 else 2)
    # A second pass with the same settings reads nothing again; with others it does.
    assert app(command, standalone_mode=False) == 1 and json.loads(out.read_text())["earlier"] == 5
    assert all(len(t.finding_files()) <= 2 for t in list_takes(lab.jobs))
    settings.write_text("coefficient: 5 kPa/K\nmedium: gas\n")
    assert app(command, standalone_mode=False) == 5
    assert len(json.loads(out.read_text())["failed"]) == 5


def test_many_workers_read_the_same_bits_and_one_may_be_killed(lab: Lab, monkeypatch: pytest.MonkeyPatch) -> None:
    takes = list_takes(lab.jobs)
    one = rereading.reread_all(lab, takes, {"window": {"from": "0 s", "to": "1 h"}})

    def killing(done: int, every: int) -> None:
        if done == 1:  # whoever of the workers is there
            for child in Path(f"/proc/self/task/{os.getpid()}/children").read_text().split():
                command = Path(f"/proc/{child}/cmdline").read_bytes()
                if b"spawn_main" in command and b"resource_tracker" not in command:
                    os.kill(int(child), signal.SIGKILL)
                    return

    two = rereading.reread_all(lab, takes, {"window": {"from": "0 s", "to": "60 min"}}, 2, killing)
    assert not one.failed and not two.failed and len(two.changes) == 6
    values = [sorted((c.take, c.after, c.readings) for c in made.changes) for made in (one, two)]
    assert values[0] == values[1]
    with pytest.raises(BadInput, match="distributed"):
        monkeypatch.setitem(__import__("sys").modules, "distributed", None)
        rereading.reread_all(lab, takes, {"decision": "simple"}, 1, scheduler="tcp://127.0.0.1:1")


def test_a_ledger_moves_row_by_row_and_back(lab: Lab) -> None:
    ledger = lab.ledger()
    ledger.add(Sensor("N-1", "accelerometer", nominal=10.0))
    import datetime

    ledger.append("N-1", Calibration(datetime.date(2026, 1, 2), 9.9, points=[[160.0, 9.9, 0.5]]))
    ledger.change("N-1", "K.B.", "moved", note="shelf 2")
    held = ledger.entry("N-1")
    count = len(ledger.entries())
    ledger.close()
    counts = move_ledger(lab, "sqlite:///other.sqlite")
    moved = open_lab(lab.folder)
    assert moved.facts.ledger == "sqlite:///other.sqlite" and counts["sensor"] == count
    there = moved.ledger()
    assert there.entry("N-1") == held and there.changes("N-1")[0].by == "K.B."
    there.close()
    with pytest.raises(BadInput, match="is there already"):
        move_ledger(moved, "sqlite:///other.sqlite")
    with pytest.raises(BadInput, match="holds rows already"):
        move_ledger(moved, "sqlite:///ledger.sqlite")
    assert open_lab(lab.folder).facts.ledger == "sqlite:///other.sqlite"


def test_the_list_of_the_lightbox_shows_what_is_found(qtbot: Any, lab: Lab) -> None:
    from lucid_anvil.desktop.lightbox.place import LightboxPlace

    place = LightboxPlace(lab)
    qtbot.addWidget(place)
    assert place.list.count() == 6
    place.query.setText("decay>0.0035bar/h 'hose a'")
    place.query.returnPressed.emit()
    until(lambda: place.list.count() == 1)
    place.query.setText("artcle=2")
    place.query.returnPressed.emit()
    until(lambda: "did you mean" in place.hint.text())
    place.query.setText("")
    place.query.returnPressed.emit()
    assert place.list.count() == 6


# --- the device link -----------------------------------------------------------------------------------------

RATE, BLOCK = 10240.0, 512


class Driver:
    """A front end in a thread that keeps the rules but for one."""

    def __init__(self, sock: Any, fault: str) -> None:
        self.wire, self.fault, self.over = Wire(sock), fault, False
        self.thread = threading.Thread(target=self.run, daemon=True)
        self.thread.start()

    def run(self) -> None:
        with contextlib.suppress(OSError, EOFError):
            self.play()
        self.over = True

    def play(self) -> None:
        self.wire.send_json(b"T", {})
        if self.fault == "silent":
            time.sleep(8)
            return
        span = BLOCK / RATE * (0.9 if self.fault == "rate" else 1.0)
        queue = [np.zeros(BLOCK), np.zeros(BLOCK)]
        began, index, shown = time.monotonic(), 0, 0
        while True:
            time.sleep(max(0.0, began + (index + 1) * span - time.monotonic()))
            if self.fault == "late" and index == 30:
                time.sleep(1.5)
                began += 1.5
            playing = queue.pop(0) if queue else np.ones(BLOCK) * (1.0 if self.fault == "watchdog" else 0.0)
            rows = np.array([np.concatenate([np.zeros(40), playing[:-40]]), playing])
            block = InputBlock(shown, rows, np.zeros(1, bool), np.full(1, np.nan), 20.0, 40.0, 24.0)
            self.wire.send(b"I", block.pack())
            index += 1
            shown += 2 if self.fault == "order" and index == 20 else 1
            while self.wire.ready(0.0):
                kind, payload = self.wire.receive()
                if kind == b"O":
                    queue.append(np.frombuffer(payload, "<f8"))
                elif kind == b"Q":
                    return

    def poll(self) -> int | None:
        return 0 if self.over else None

    def wait(self, _timeout: float) -> None:
        self.thread.join(0.1)

    def kill(self) -> None:
        self.over = True


RIG = """lucid-anvil-rig: 1
name: Bench
front_end: {driver: standin, rate: 10.24 kHz, block: 512, patience: 1 s, watchdog: 100 ms, source_range: 1 V}
channels:
  - {input: 1, role: control, kind: voltage, range: 10 V}
"""


def tried(tmp_path: Path, fault: str, drive: float = 0.0) -> Any:
    place = tmp_path / "a.rig.yaml"
    place.write_text(RIG)

    def opened(*_: Any) -> Any:
        ours, theirs = wire_pair()
        return ours, Driver(theirs, fault)

    rig, seen = try_rig(place, 3.0, drive, opened)
    return finding_of(rig, seen, drive)


def test_a_front_end_that_keeps_the_rules_passes(tmp_path: Path) -> None:
    made = tried(tmp_path, "", 0.1)
    assert made.verdict == "inside", [(r.key, r.value, r.verdict) for r in made.readings]
    assert {r.key for r in made.readings} >= {"blocks", "order", "losses", "rate_error", "late", "watchdog"}


@pytest.mark.parametrize(
    ("fault", "key"), [("late", "late"), ("order", "order"), ("watchdog", "watchdog"), ("rate", "rate_error")]
)
def test_each_broken_rule_is_told_by_name(tmp_path: Path, fault: str, key: str) -> None:
    made = tried(tmp_path, fault)
    assert made.verdict == "outside" and made.reading(key).verdict == "outside"


def test_a_silent_front_end_and_an_instrument_that_is_not_there(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from lucid_anvil.engine import conformance

    monkeypatch.setattr(conformance, "START", 1.0)
    made = tried(tmp_path, "silent")
    assert made.verdict == "outside" and "silent" in made.missing[0]
    answered = ask_instruments(None, {"meter": ("127.0.0.1", 9)})  # type: ignore[arg-type]
    assert answered[0].took is None and "meter" in answered[0].identity


def test_a_rig_of_stand_ins_passes_at_the_command_line(demo_lab: Any, tmp_path: Path) -> None:
    out = tmp_path / "out.json"
    rig = demo_lab.folder / "rigs" / "comparison.rig.yaml"
    app(["rig", "check", str(rig), "--seconds", "1", "--json", str(out)], standalone_mode=False)
    told = json.loads(out.read_text())
    assert told["method"] == "rig-check" and told["complete"] is True
    verdicts = {r["key"]: r["verdict"] for r in told["readings"]}  # its clock slips where the machine is busy
    assert {verdicts[k] for k in ("blocks", "order", "losses", "overload", "watchdog")} == {"inside"}
