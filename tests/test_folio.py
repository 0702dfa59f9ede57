"""Certificate, rehearsal, command line on a lab, study of the doubt, and the house rules."""

from __future__ import annotations

import ast
import datetime
import json
import re
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from tests.conftest import short_plan
from tests.test_evaluate import cli

from lucid_anvil.core.errors import BadInput
from lucid_anvil.domains.comparison.paper import PAPER, context
from lucid_anvil.engine.inprocess import play_through
from lucid_anvil.engine.preparing import prepare
from lucid_anvil.engine.rehearsal import rehearse
from lucid_anvil.engine.study import demo_rig, errors_against_truth, one_run, study_run, summary
from lucid_anvil.folio.accepting import accept_take
from lucid_anvil.folio.certificate import html_of, report
from lucid_anvil.lab.takes import Take
from lucid_anvil.lab.textfiles import dump_yaml
from lucid_anvil.rig.choosing import rig_for

SRC = Path(__file__).parents[1] / "src" / "lucid_anvil"


def pdf_text(place: Path) -> tuple[str, int]:
    from pypdf import PdfReader

    pages = PdfReader(str(place)).pages
    return " ".join(" ".join(p.extract_text() for p in pages).split()), len(pages)


def test_an_accepted_certificate_holds_what_it_must(demo_lab: Any, kept: Take) -> None:
    finding = kept.finding()
    assert finding is not None
    number = accept_take(demo_lab, kept, finding, "as left", "K.B.", wants_due=False)
    text, pages = pdf_text(demo_lab.certificates / f"{number}.pdf")
    for words in (
        "Calibration certificate", number, "Gullstone Test House", "Harbour Road 7", "Marram Sound Lights", "GA-11",
        "Tidewrack T 10", "GA-02", "National institute", "ISO 16063-21", "21.4 °C", "46 % RH", "as left",
        "mV/(m/s²)", "coverage factor", "Decision rule", "Guarded acceptance", "Traceability", "relate only to",
        "reproduced only in full", "K.B.", "M.O.", "160", "page 1 of",
    ):  # fmt: skip
        assert words in text, words
    assert f"of {pages}" in text
    assert "next calibration is due" not in text
    entry = demo_lab.ledger().entry("GA-11").last
    assert (entry.certificate, entry.as_state, entry.verdict) == (number, "as left", "inside")
    assert entry.due is not None
    assert entry.points[0][0] == 63.0


def test_a_due_date_only_where_the_customer_asked(demo_lab: Any, kept: Take) -> None:
    finding = kept.finding()
    assert finding is not None
    number = accept_take(demo_lab, kept, finding, "as found", "K.B.", wants_due=True)
    assert "next calibration is due" in pdf_text(demo_lab.certificates / f"{number}.pdf")[0]


def test_a_draft_says_so_and_is_not_written_over(demo_lab: Any, kept: Take, tmp_path: Path) -> None:
    place = tmp_path / "c.pdf"
    report(kept, place)
    assert "not issued" in pdf_text(place)[0]
    with pytest.raises(BadInput, match="exists already"):
        report(kept, place)
    with pytest.raises(BadInput, match="does not exist"):
        report(kept, tmp_path / "no" / "c.pdf")
    done = cli("report", kept.folder, "--pdf", tmp_path / "d.pdf")
    assert done.returncode == 0
    # Written seconds later by another process, and yet the same: nobody need wonder which one was sent.
    assert (tmp_path / "d.pdf").read_bytes() == place.read_bytes()
    assert place.read_bytes().startswith(b"%PDF")


def test_a_lab_may_change_the_template(demo_lab: Any, kept: Take) -> None:
    finding = kept.finding()
    assert finding is not None
    (demo_lab.folder / "templates").mkdir()
    (demo_lab.folder / "templates" / "certificate.html").write_text(
        "<p>Ours: {{ unit.serial }} {{ rows | length }}</p>"
    )
    folder, name = PAPER.template.parent, PAPER.template.name
    assert html_of(context(kept, finding, demo_lab, None), demo_lab, name, folder) == "<p>Ours: GA-11 5</p>"


def test_text_from_the_ledger_can_not_break_the_page(demo_lab: Any, kept: Take) -> None:
    finding = kept.finding()
    assert finding is not None
    values = context(kept, finding, demo_lab, None)
    values["plan"].customer = "<script>x</script>"
    assert "<script>" not in html_of(values, demo_lab, PAPER.template.name, PAPER.template.parent)


def test_rehearsal_shows_the_headroom(demo_lab: Any) -> None:
    finding = rehearse(prepare(short_plan(demo_lab)))
    used = {r.key: r.value for r in finding.readings}
    assert finding.verdict == "inside"
    assert 1 < (used["guard_drive"] or 0) < 60
    assert {c.key for c in finding.curves} == {"capability", "course"}
    tight = short_plan(demo_lab, None, {"guards": [{"watch": "current", "limit": "0.2 A"}]})
    finding = rehearse(prepare(tight))
    assert finding.verdict == "outside"
    assert any(n.startswith("Cut at") for n in finding.notes)
    assert cli("rehearse", tight).returncode == 1


def test_rehearsal_tells_what_the_walk_round_would_not_pass(demo_lab: Any) -> None:
    finding = rehearse(prepare(short_plan(demo_lab, {"level": "200 m/s^2"}, {"room": {"temperature": 31}})))
    text = " ".join(finding.notes)
    assert "take a wider range" in text
    assert "31.0 °C" in text
    assert finding.verdict == "outside"


@pytest.mark.parametrize(
    ("rig", "changes", "words"),
    [
        ({"standin": {"faults": [{"at": 0, "kind": "open", "channel": "unit"}]}}, {}, "open, 23.8 V"),
        ({"standin": {"faults": [{"at": 0, "kind": "short", "channel": "unit"}]}}, {}, "short, 0.1 V"),
        ({"standin": {"faults": [{"at": 0, "kind": "hum", "channel": "unit"}]}}, {}, "hum and loose cables"),
        ({}, {"reference_response": [[10, "10 mV/(m/s^2)"], [300, "10 mV/(m/s^2)"]],
              "reference_uncertainty": "1 %"}, "500 Hz is not covered"),
        ({}, {"level": "0.3 m/s^2"}, "narrower range"),
    ],
)  # fmt: skip
def test_the_walk_round_senses(demo_lab: Any, rig: dict[str, Any], changes: dict[str, Any], words: str) -> None:
    finding = rehearse(prepare(short_plan(demo_lab, changes, {**rig, "guards": [{"watch": "drive", "limit": 4.9}]})))
    assert words in " ".join(finding.notes)


def test_a_reference_out_of_date_is_refused_by_run(demo_lab: Any) -> None:
    from lucid_anvil.lab.textfiles import load_yaml

    place = short_plan(demo_lab)
    data = load_yaml(place)
    data["sensors"]["reference"]["due"] = "2020-01-01"
    place.write_text(dump_yaml(data))
    done = cli("run", place, "--take", place.parent / "t")
    assert done.returncode == 2
    assert "was due on 2020-01-01" in done.stderr
    assert not (place.parent / "t").exists()


def test_run_from_the_command_line(demo_lab: Any, tmp_path: Path) -> None:
    plan = short_plan(demo_lab)
    done = cli("run", plan, "--take", tmp_path / "t", "--json", "-")
    assert done.returncode == 0, done.stderr
    assert json.loads(done.stdout)["verdict"] == "inside"
    again = cli("run", plan, "--take", tmp_path / "t")
    assert again.returncode == 2
    assert "never written over" in again.stderr
    assert cli("run", plan, "--pace", "slow").returncode == 2
    # The take is evaluated with its own plan, and converted.
    done = cli("evaluate", "accelerometer-comparison", tmp_path / "t", "--json", "-")
    assert json.loads(done.stdout)["verdict"] == "inside"
    assert cli("convert", tmp_path / "t", tmp_path / "one.csv").returncode == 0


def test_a_cut_run_exits_with_3(demo_lab: Any, tmp_path: Path) -> None:
    faults = [{"at": "4 s", "kind": "open", "channel": "unit"}]
    done = cli("run", short_plan(demo_lab, None, {"standin": {"faults": faults}}), "--take", tmp_path / "t")
    assert done.returncode == 3, done.stderr
    assert "Sensor supply on unit" in done.stderr


def test_ledger_on_the_command_line(demo_lab: Any) -> None:
    lab = ("--lab", demo_lab.folder)
    due = json.loads(cli("ledger", "due", *lab, "--json", "-").stdout)
    assert [r["serial"] for r in due[:2]] == ["GP-08", "GA-11"]
    assert "GA-02" in cli("ledger", "list", *lab).stdout
    assert len(json.loads(cli("ledger", "show", "GA-11", *lab, "--json", "-").stdout)) == 5
    assert cli("ledger", "show", "GA-12", *lab).returncode == 2
    assert cli("ledger", "add", "GA-30", "--nominal", "100 mV/g", *lab).returncode == 0
    assert cli("ledger", "add", "GA-30", *lab).returncode == 2
    assert cli("ledger", "traces", "GA-30", *lab).returncode == 0
    assert "no lab here" in cli("ledger", "list", "--lab", "/").stderr


def test_a_charge_sensor_through_its_amplifier(demo_lab: Any) -> None:
    from tests.conftest import SHORT, TODAY

    from lucid_anvil.lab import planning

    rig = rig_for(demo_lab.rig_file(), "GC-04")
    assert rig.name == "charge.rig.yaml"
    plan = planning.calibration_plan(demo_lab, "GC-04", today=TODAY, changes={**SHORT, "insert": False}, rig_file=rig)
    prepared = prepare(planning.write_plan(demo_lab, "GC-04", plan))
    played = play_through(prepared)
    assert played.trip is None
    finding = prepared.method.evaluate(played.channels, prepared.settings, played.marks)
    reading = finding.reading("sensitivity")
    assert reading.unit == "pC/(m/s²)"
    assert reading.value == pytest.approx(0.3085, rel=4e-3)


def test_multisine_agrees_with_stepped_within_its_doubt_in_far_less_time() -> None:
    rows = {}
    times = {}
    for kind in ("stepped", "multisine"):
        prepared = study_run(demo_rig(), {"excitation": kind, "insert": True})
        played = play_through(prepared)
        times[kind] = played.drive.size
        finding = prepared.method.evaluate(played.channels, prepared.settings, played.marks)
        rows[kind] = finding.curve("sensitivity")
    for a, b, u in zip(rows["stepped"].y, rows["multisine"].y, rows["multisine"].uncertainty or (), strict=True):
        assert a is not None
        assert b == pytest.approx(a, abs=u)
    assert times["multisine"] < 0.45 * times["stepped"]


def test_an_insert_takes_the_gain_ratio_out() -> None:
    rig = demo_rig()
    rig["standin"]["input_gains"] = {"unit": "0.4 %"}
    rig["room"]["temperature"] = 23.0
    short = {"steps_per_octave": 1, "start": "125 Hz", "stop": "500 Hz", "excitation": "multisine"}
    without = max(abs(r[1]) for r in errors_against_truth(study_run(rig, short)))
    with_it = max(abs(r[1]) for r in errors_against_truth(study_run(rig, {**short, "insert": True})))
    assert without == pytest.approx(0.4, abs=0.02)
    assert with_it < 0.01


def test_the_readings_are_true_on_another_rig() -> None:
    from lucid_anvil.engine.study import accuracy, rig_variants

    for given in rig_variants()[1::2]:
        _, _, sensitivity, low, high = accuracy(given)
        assert sensitivity < 0.1
        assert low < 0.3
        assert high < 0.5


def test_the_doubt_is_neither_too_small_nor_too_large() -> None:
    """A small sample of `make doubt`: multi-sine runs with every systematic error drawn."""
    runs = [one_run((seed, 1, "multisine")) for seed in range(1, 7)]
    rows = summary(runs)
    inside = sum(r[1] for r in rows)
    assert inside >= 0.88 * len(runs) * len(rows)
    rms = (sum(r[2] ** 2 for r in rows) / len(rows)) ** 0.5
    assert 0.25 < rms < 0.75


def test_layers_are_checked() -> None:
    tool = Path(sys.executable).with_name("lint-imports")
    done = subprocess.run([tool], cwd=SRC.parents[1], capture_output=True, text=True, timeout=120)
    assert done.returncode == 0, done.stdout


def test_public_functions_of_the_core_say_what_they_do() -> None:
    missing = []
    for place in (SRC / "core").rglob("*.py"):
        for node in ast.walk(ast.parse(place.read_text(encoding="utf-8"))):
            if isinstance(node, (ast.FunctionDef, ast.ClassDef)) and not node.name.startswith("_"):
                short = isinstance(node, ast.FunctionDef) and len(node.body) <= 2
                if not ast.get_docstring(node) and not short:
                    missing.append(f"{place.name}:{node.name}")
    assert missing == []


def test_every_stated_file_is_in_the_package() -> None:
    for name in ("data/demo/lab.yaml", "data/demo/rigs/comparison.rig.yaml", "domains/comparison/templates/certificate.html"):
        assert (SRC / name).exists()
    html = (SRC / "domains" / "comparison" / "templates" / "certificate.html").read_text(encoding="utf-8")
    assert not re.search(r"https?://", html)


def test_a_reference_found_out_of_tolerance_names_the_takes_that_rest_on_it(demo_lab: Any, kept: Take) -> None:
    """The question that a lab must answer when a reference has drifted (ISO/IEC 17025, 7.10)."""
    from lucid_anvil.engine.taking import tell_ledger
    from lucid_anvil.lab.ledger import Calibration

    tell_ledger(kept)
    ledger = demo_lab.ledger()
    before = ledger.entry("GA-02").last
    assert before is not None
    ledger.append(
        "GA-02", Calibration(datetime.date.today(), before.sensitivity * 1.05, verdict="outside", certificate="N-9")
    )
    assert ledger.entry("GA-02").last.verdict == "outside"  # type: ignore[union-attr]
    traces = ledger.traces("GA-02")
    assert [(t["take"], t["role"], t["certificate"]) for t in traces] == [
        ("jobs/0412/comparison-ga-11/take-001", "reference", before.certificate)
    ]
    assert {t["role"] for s in ("GA-11", "GA-21") for t in ledger.traces(s)} == {"unit", "transverse"}
    # A new plan takes the new calibration and the drift between the two into its doubt.
    from lucid_anvil.lab import planning

    plan = planning.calibration_plan(demo_lab, "GA-11", today=datetime.date.today() + datetime.timedelta(days=365))
    settings = plan["steps"][0]["settings"]
    assert plan["sensors"]["reference"]["certificate"] == "N-9"
    assert float(settings["reference_drift"].split()[0]) > 4.0


def test_what_was_not_accepted_has_no_certificate(demo_lab: Any, kept: Take) -> None:
    from lucid_anvil.folio.certificate import accepted_of

    assert accepted_of(kept, demo_lab) is None
    assert accepted_of(kept, None) is None
    finding = kept.finding()
    assert finding is not None
    number = accept_take(demo_lab, kept, finding, "as found", "K.B.", False)
    accepted = accepted_of(kept, demo_lab)
    assert accepted is not None
    assert accepted.certificate == number
