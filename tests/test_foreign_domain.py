"""A domain from another distribution, which no file of ours knows: command line, run, guard, report, window."""

from __future__ import annotations

import datetime
import json
import math
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from pypdf import PdfReader
from tests.test_desktop import leave

from lucid_anvil.contracts import registry
from lucid_anvil.core.errors import BadInput
from lucid_anvil.desktop.bench.place import _ready
from lucid_anvil.engine.preparing import prepare
from lucid_anvil.engine.tiles import listening_chain
from lucid_anvil.lab.demo import make_demo
from lucid_anvil.lab.plans import load_plan
from lucid_anvil.lab.takes import Take
from lucid_anvil.lab.textfiles import dump_yaml

HERE = Path(__file__).parent / "foreign"


@pytest.fixture
def installed(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    """The tiny domain as an installed distribution, for this process and those that it starts."""
    site = tmp_path / "site"
    facts = site / "tiny_domain-1.0.dist-info"
    facts.mkdir(parents=True)
    for name in ("tiny_domain.py", "tiny_window.py", "tiny-paper.html"):
        shutil.copy(HERE / name, site)
    (facts / "METADATA").write_text("Metadata-Version: 2.1\nName: tiny-domain\nVersion: 1.0\n")
    (facts / "entry_points.txt").write_text("[lucid_anvil.domains]\ntiny = tiny_domain:DOMAIN\n")
    monkeypatch.syspath_prepend(str(site))
    monkeypatch.setenv("PYTHONPATH", os.pathsep.join([str(site), os.environ.get("PYTHONPATH", "")]))
    registry.domains.cache_clear()
    yield site
    registry.domains.cache_clear()
    for name in ("tiny_domain", "tiny_window"):
        sys.modules.pop(name, None)


def plan_in(lab: Any, guards: list[dict[str, Any]] | None = None, **settings: Any) -> Path:
    """A plan of the foreign method on the demo's shaker."""
    folder = lab.jobs / "0412" / "battery-tray" / "rise"
    folder.mkdir(parents=True)
    plan = {
        "lucid-anvil-plan": 1, "title": "Rise", "article": "Battery tray", "rig": "../../../../rigs/shaker.rig.yaml",
        "sensors": {"control": {"serial": "GA-07", "sensitivity": "9.98 mV/(m/s^2)"}},
        "steps": [{"method": "tone-rise", "settings": settings}], "guards": guards or [],
    }  # fmt: skip
    place = folder / "rise.plan.yaml"
    place.write_text(dump_yaml(plan), encoding="utf-8")
    return place


def cli(*words: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run([sys.executable, "-m", "lucid_anvil.cli", *words], capture_output=True, text=True)


def test_it_is_listed_and_explained_and_a_broken_one_does_no_harm(installed: Path) -> None:
    other = installed / "broken-1.0.dist-info"
    other.mkdir()
    (other / "METADATA").write_text("Metadata-Version: 2.1\nName: broken\nVersion: 1.0\n")
    (other / "entry_points.txt").write_text("[lucid_anvil.domains]\nbroken = nowhere_at_all:DOMAIN\n")
    registry.domains.cache_clear()
    assert registry.domain_of("tone-rise").title == "Tones" and "sine-sweep" in registry.names()
    assert "nowhere_at_all" in registry.broken()["broken"]
    listed = cli("methods")
    assert "tone-rise" in listed.stdout and "'broken' is left out" in listed.stderr
    told = cli("methods", "tone-rise").stdout
    assert "frequency" in told and "rise" in told and "Level [V rms] over s" in told


def test_it_runs_and_is_read_and_reported_from_the_command_line(installed: Path, demo_lab: Any, tmp_path: Path) -> None:
    place = plan_in(demo_lab, limits={"rise": {"low": "20 dB"}})
    take, out = tmp_path / "take", tmp_path / "finding.json"
    done = cli("run", str(place), "--pace", "fast", "--take", str(take), "--json", str(out))
    assert done.returncode == 0, done.stderr
    finding = json.loads(out.read_text())
    assert finding["method"] == "tone-rise" and finding["verdict"] == "inside" and finding["complete"]
    assert finding["readings"][0]["value"] > 20 and len(finding["curves"][0]["x"]) > 15
    again = json.loads(cli("evaluate", "tone-rise", str(take), "--json", "-").stdout)
    assert again["readings"] == finding["readings"]
    paper = tmp_path / "report.pdf"
    assert cli("report", str(take), "--pdf", str(paper)).returncode == 0 and paper.read_bytes()[:4] == b"%PDF"
    said = PdfReader(paper).pages[0].extract_text()  # a paper of its own, in place of the test report
    assert "Rise of Battery tray" in said and f"{finding['readings'][0]['value']:.1f} dB over rest; inside." in said


def test_it_lays_its_part_of_the_demo(installed: Path, tmp_path: Path) -> None:
    lab = make_demo(tmp_path / "lab", datetime.date(2026, 6, 1))
    place = lab.jobs / "0412" / "tones" / "rise.plan.yaml"
    assert load_plan(place).step.method == "tone-rise"
    assert (lab.jobs / "0412" / "battery-tray" / "sine" / "sine.plan.yaml").exists()


def test_its_own_guard_cuts_and_its_own_stand_in_is_heard(installed: Path, demo_lab: Any, tmp_path: Path) -> None:
    place = plan_in(demo_lab, [{"watch": "loud", "limit": "1 m/s^2"}], drive="0.3 V", each="3 s")
    done = cli("run", str(place), "--pace", "fast", "--take", str(tmp_path / "take"))
    assert done.returncode == 3 and "control is loud" in done.stdout + done.stderr
    take = Take(tmp_path / "take")
    assert take.status() == "cut" and not take.finding().complete  # type: ignore[union-attr]
    trip = next(e for e in take.events() if e["kind"] == "trip")
    assert trip["guard"] == "loud" and trip["unit"] == "m/s²"
    rig: dict[str, Any] = {
        "lucid-anvil-rig": 1, "name": "Hum", "channels": [{"role": "control", "input": 1, "kind": "voltage"}],
        "standin": {"scene": {"kind": "hum", "volts": "20 mV"}}, "guards": [{"watch": "overload"}],
    }  # fmt: skip
    # A kind of input of its own, its unit known from the tile to the record; and a check of its own.
    rig["channels"].append({"role": "shaft", "input": 2, "kind": "torque", "sensor": "T-1", "sensitivity": "0.5 V/(N*m)"})
    rig["standin"]["sensors"] = {"T-1": {"sensitivity": "0.5 V/(N*m)", "low_corner": "0 Hz", "noise": 0}}
    hum = demo_lab.folder / "rigs" / "hum.rig.yaml"
    hum.write_text(dump_yaml(rig), encoding="utf-8")
    plan = place.with_name("hum.plan.yaml")
    told = (place.read_text().replace("shaker.rig", "hum.rig").replace("watch: loud", "watch: overload")
            .replace("limit: 1 m/s^2", "limit: 1")
            .replace("guards:", "walk_round: [{key: q, text: Inputs at rest, sense: quiet}]\nguards:"))  # fmt: skip
    plan.write_text(told, encoding="utf-8")
    done = cli("run", str(plan), "--pace", "fast", "--take", str(tmp_path / "hum"), "--json", str(tmp_path / "hum.json"))
    assert done.returncode == 0, done.stdout + done.stderr
    finding = json.loads((tmp_path / "hum.json").read_text())
    # 0.3 V of tone beside 20 mV of hum, both peaks.
    assert abs(finding["readings"][0]["value"] - 20 * math.log10(math.hypot(0.3, 0.02) / 0.02)) < 0.3
    signed = next(e for e in Take(tmp_path / "hum").events() if e["kind"] == "begin")
    assert "inputs at rest\"" in json.dumps(signed, ensure_ascii=False)
    prepared = prepare(plan)
    assert next(i.unit for i in prepared.facts.inputs if i.role == "shaft") == "N*m"
    samples = {"control": np.zeros(64), "shaft": np.full(64, 1.0), "drive": np.zeros(64)}
    assert any("2.00 N*m" in t.value or "N*m" in t.value for t in listening_chain(prepared, samples, {}))
    plan.write_text(told.replace("sense: quiet", "sense: quite"), encoding="utf-8")
    with pytest.raises(BadInput, match="did you mean 'quiet'"):
        prepare(plan)
    rig["channels"][1]["kind"] = "torqe"
    hum.write_text(dump_yaml(rig), encoding="utf-8")
    plan.write_text(told, encoding="utf-8")
    with pytest.raises(BadInput, match="did you mean 'torque'"):
        prepare(plan)
    wrong = dict(rig, standin={"scene": {"kind": "hmu"}}, channels=rig["channels"][:1])
    hum.write_text(dump_yaml(wrong), encoding="utf-8")
    with pytest.raises(BadInput, match="there is no scene 'hmu'.*hum"):
        prepare(plan)


def test_it_runs_in_the_window_with_its_own_side_and_view(installed: Path, demo_lab: Any, window: Any, qtbot: Any) -> None:
    place = plan_in(demo_lab, limits={"rise": {"low": "20 dB"}})
    bench = window.bench
    window.go("Bench")
    window.resize(1280, 800)
    bench.open_plan(place)
    qtbot.waitUntil(lambda: bench.state == "walk-round", timeout=60000)
    side = bench.side
    assert side is bench.kinds["tiny"] and side.stage.title.text() == "Rise over rest"
    for check in bench.prepared.plan.walk_round:
        bench.walk.sign.emit(check.key, "K.B.")
    qtbot.waitUntil(lambda: bench.walk.go.isEnabled(), timeout=60000)
    bench.walk.go.click()
    qtbot.waitUntil(lambda: bench.finding is not None and bench.state == "done", timeout=120000)
    assert side.result.isVisible() and side.result.big.text().startswith("Rise:")
    assert side.stage.told.text() == f"It rose by {bench.finding.reading('rise').value:.0f} dB"
    axis, chart = side.stage.views["level"]
    assert side.stage.charts.currentWidget() is chart and "level" in chart.series
    window.grab().save(os.environ.get("SHOT", "/dev/null"), "PNG")


def test_a_side_that_can_not_be_loaded_leaves_its_methods_to_their_views(
    installed: Path, demo_lab: Any, qtbot: Any
) -> None:
    from lucid_anvil.desktop.shell.window import MainWindow

    (installed / "tiny_window.py").write_text("import nowhere_at_all\n")
    made = MainWindow(demo_lab, pace="fast")
    assert "tiny" not in made.bench.kinds and "tiny_window" in registry.broken()["tiny"]
    made.bench._opened(*_ready(plan_in(demo_lab)))
    assert made.bench.side is made.bench.plain
    leave(made)
