"""Takes that complete one another, units whose curves make limits, and the command line of the sound card."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from tests.test_soundcard import Loop, written_rig
from typer.testing import CliRunner

from lucid_anvil.cli import app
from lucid_anvil.contracts.finding import Curve, Finding, Reading
from lucid_anvil.core.errors import BadInput
from lucid_anvil.engine.evaluating import series_of
from lucid_anvil.lab.takes import RETAKE, STRUCK, Take, begin_take, plan_beside
from lucid_anvil.lab.textfiles import dump_yaml
from lucid_anvil.lab.unit_limits import units_of
from lucid_anvil.rig import card_calibration, soundcard
from lucid_anvil.rig.model import load_rig

STEPS = [{"method": "output-gain", "name": "gain", "drive": {"power": "1 W"}}]


def take_of(folder: Path, name: str, base: str | None = None, goes_on: str | None = None) -> Take:
    """A take without streams; `base` what its plan completes, `goes_on` what it was continued from."""
    plan = {"lucid-anvil-plan": 1, "title": "t", "steps": STEPS, **({"base_take": base} if base else {})}
    made = begin_take(folder / name, dump_yaml(plan), "name: r\n")
    events: list[dict[str, Any]] = [{"kind": "begin", "t": 0.0}]
    if goes_on:
        events.append({"kind": "continued", "t": 0.0, "take": Path(goes_on).name, "folder": goes_on})
    (made.folder / "events.jsonl").write_text("".join(json.dumps(e) + "\n" for e in events))
    return made


def names(takes: list[Take]) -> list[str]:
    return [t.folder.name for t in takes]


def test_a_take_alone_is_its_own_series(tmp_path: Path) -> None:
    assert names(series_of(take_of(tmp_path, "take-001"))) == ["take-001"]


def test_retakes_of_retakes_and_continued_ones_are_followed_to_the_first(tmp_path: Path) -> None:
    take_of(tmp_path, "take-001")
    take_of(tmp_path, "take-002", base="../take-001")
    take_of(tmp_path, "take-003", base="../take-002")
    assert names(series_of(Take(tmp_path / "take-003"))) == ["take-001", "take-002", "take-003"]
    # One that goes on from a cut retake: what was cut comes first, and it leads to what it retook.
    last = take_of(tmp_path, "take-004", base="../take-002", goes_on="../take-003")
    assert names(series_of(last)) == ["take-001", "take-002", "take-003", "take-004"]


def test_a_series_that_bites_its_tail_or_has_a_gap_is_told(tmp_path: Path) -> None:
    take_of(tmp_path, "take-001", base="../take-002")
    take_of(tmp_path, "take-002", base="../take-001")
    with pytest.raises(BadInput, match="mend base_take"):
        series_of(Take(tmp_path / "take-002"))
    with pytest.raises(BadInput, match="this is not a take"):
        series_of(take_of(tmp_path, "take-003", base="../take-000"))


def test_the_plan_beside_a_take_is_never_one_of_a_retake(tmp_path: Path) -> None:
    made = take_of(tmp_path, "take-001")
    assert plan_beside(made.folder).name == "comparison.plan.yaml"
    for name in (RETAKE, STRUCK, "sheet.plan.yaml"):
        (tmp_path / name).write_text("title: x\n")
    assert plan_beside(made.folder) == tmp_path / "sheet.plan.yaml"


def test_units_are_the_newest_counted_sheet_of_each_article(demo_lab: Any) -> None:
    curve = Curve("gain_response_A_8", "", (20.0, 1000.0), (0.0, 0.1), "Hz", "dB")
    sheet = Finding("amplifier-sheet", (Reading("g", "G", 1.0, "dB"),), (curve,))
    for article, count in (("one", 2), ("two", 1), ("three", 1)):
        for i in range(count):
            take = take_of(demo_lab.jobs / "0412" / article, f"take-{i + 1:03d}")
            take.keep(Finding("amplifier-sheet", ()) if article == "three" else sheet)
    other = take_of(demo_lab.jobs / "0412" / "four", "take-001")
    other.keep(Finding("sine-sweep", (), (curve,)))
    units = units_of(demo_lab, "amplifier-sheet")
    assert [(u.name, u.take.name) for u in units if u.curve(curve.key)] == [("two", "take-001"), ("one", "take-002")]
    assert units[0].curve("gain_response_B_8") is None


# --- the sound card on the command line ------------------------------------------------------------------------------


def test_cards_are_listed(monkeypatch: pytest.MonkeyPatch) -> None:
    class Library:
        @staticmethod
        def query_devices() -> list[dict[str, Any]]:
            both = {"max_input_channels": 2, "max_output_channels": 2, "default_samplerate": 48000.0}
            return [{"name": "Box", **both}, {"name": "speaker", **both, "max_input_channels": 0}]

    monkeypatch.setattr(soundcard, "portaudio", Library)
    said = CliRunner().invoke(app, ["soundcard", "list", "--json", "-"])
    assert said.exit_code == 0
    assert json.loads(said.stdout) == [{"number": 0, "name": "Box", "inputs": 2, "outputs": 2, "rate": 48000.0}]


def test_a_calibration_typed_at_the_terminal(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    place = written_rig(tmp_path)
    made = card_calibration.calibrate
    monkeypatch.setattr(card_calibration, "calibrate", lambda rig, ask, say: made(rig, ask, say, Loop))
    done = CliRunner().invoke(app, ["soundcard", "calibrate", str(place)], input="0.7 V\n700 mV\n")
    assert done.exit_code == 0, done.output
    card = load_rig(place).front_end.card
    assert card.known and card.output_volts[0] == pytest.approx(card.output_volts[1], rel=1e-4)
    assert "cable it to input 2" in done.stderr and "Wrote" in done.stderr


@pytest.mark.parametrize("typed", ["", "a lot\n", "3 ohm\n", "0 V\n"])
def test_what_is_no_voltage_keeps_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, typed: str) -> None:
    place = written_rig(tmp_path)
    before, made = place.read_text(), card_calibration.calibrate
    monkeypatch.setattr(card_calibration, "calibrate", lambda rig, ask, say: made(rig, ask, say, Loop))
    done = CliRunner().invoke(app, ["soundcard", "calibrate", str(place)], input=typed)
    assert isinstance(done.exception, BadInput) and "meter" in str(done.exception)
    assert place.read_text() == before
