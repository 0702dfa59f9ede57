"""A handset on the stand-in network: each case played at its level, the line of eight bits a sample in between."""

from __future__ import annotations

import hashlib
import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from lucid_anvil.contracts.finding import Finding
from lucid_anvil.core.audio import g711
from lucid_anvil.core.errors import BadInput
from lucid_anvil.engine.inprocess import Played, play_through
from lucid_anvil.engine.newplan import begin_plan
from lucid_anvil.engine.preparing import Prepared, prepare
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.editing import put

MASK = {"low": [[300, "-20 dB"], [3400, "-20 dB"]], "high": [[300, "0 dB"], [3400, "0 dB"]]}


def planned(tmp_path: Path, rig: str, case: str, level: str, scene: str = "", **settings: Any) -> Prepared:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True)
    place = lab.folder / "rigs" / f"{rig}.rig.yaml"
    text = place.read_text()
    assert "kind: handset," in text
    place.write_text(text.replace("kind: handset,", f"kind: handset, {scene}" if scene else "kind: handset,"))
    plan = begin_plan("handset-cases", place, "Handset 1", lab.jobs / "a" / "a.plan.yaml", lab=lab)
    given = {"case": case, "play": {"level": level, "seconds": "4 s"}, "level_uncertainty": "0.3 dB", **settings}
    for key, value in given.items():
        put(plan, (key,), value)
    return prepare(plan)


def run(prepared: Prepared) -> tuple[Played, Finding]:
    played = play_through(prepared)
    assert played.trip is None, played.trip
    held = {k: c for k, c in played.channels.items() if k != "drive"}
    return played, prepared.method.evaluate(held, prepared.settings, played.marks)


def values(found: Finding) -> dict[str, Any]:
    return {r.key: r.value for r in found.readings}


@pytest.mark.parametrize(
    ("rig", "case", "level", "flat"), [("handset", "sending", "0.58 Pa", 0.4), ("earpiece", "receiving", "0.1 V", 8.0)]
)
def test_both_ways_are_heard_at_their_level_through_the_line(
    tmp_path: Path, rig: str, case: str, level: str, flat: float
) -> None:
    played, found = run(planned(tmp_path, rig, case, level, mask=MASK if case == "sending" else None))
    mark = next(m for m in played.marks if m["kind"] == "played")
    assert mark["level"] == pytest.approx(float(level.split()[0]), rel=0.01)
    by = values(found)
    curve = next(c for c in found.curves if c.key == "response")
    middle = [y for x, y in zip(curve.x, curve.y, strict=True) if 700 < x < 1500]
    assert np.mean(middle) == pytest.approx(20 * np.log10(flat), abs=0.4)
    assert by["delay"] == pytest.approx(45.6, abs=0.3)
    if case == "sending":
        assert by["mask_margin"] == pytest.approx(5.5, abs=3) and found.verdict == "inside"
    # A quarter of it is twelve decibels more of a rating.
    softer = planned(tmp_path / "b", rig, case, level)
    text = softer.rig_file.read_text()
    softer.rig_file.write_text(text.replace(f"sensitivity: {flat}}}", f"sensitivity: {flat / 4}}}"))
    _, soft = run(prepare(softer.plan_file))
    assert values(soft)["loudness_rating"] == pytest.approx(by["loudness_rating"] + 12.04, abs=0.2)


def test_the_line_is_what_is_left_of_a_tone(tmp_path: Path) -> None:
    by = {}
    for codec in ("a-law", "mu-law", "none"):
        scene = f"codec: {codec}, square: 0,"
        by[codec] = values(run(planned(tmp_path / codec, "handset", "distortion", "0.58 Pa", scene))[1])["sinad"]
    # ITU-T G.711 leaves some 38 dB of a tone well below its full scale.
    assert 36 < by["a-law"] < 41 and 36 < by["mu-law"] < 41 and by["none"] > 55
    bent = values(run(planned(tmp_path / "bent", "handset", "distortion", "0.58 Pa", "square: 0.3,"))[1])["sinad"]
    assert bent < 25


def test_silence_is_measured_and_the_wrong_quantity_refused(tmp_path: Path) -> None:
    quiet = values(run(planned(tmp_path / "a", "handset", "idle", "0.58 Pa", "codec: none,"))[1])["noise"]
    loud = values(run(planned(tmp_path / "b", "handset", "idle", "0.58 Pa", "codec: none, noise: 0.001,"))[1])["noise"]
    assert loud - quiet == pytest.approx(20, abs=1)
    with pytest.raises(BadInput, match="the mouth, in Pa"):
        play_through(planned(tmp_path / "c", "handset", "sending", "0.1 V"))
    with pytest.raises(BadInput, match="the line, in V"):
        play_through(planned(tmp_path / "d", "earpiece", "receiving", "0.1 Pa"))
    with pytest.raises(BadInput, match="above zero"):
        planned(tmp_path / "e", "handset", "sending", "0 Pa")


def test_a_level_that_a_mouth_does_not_reach_is_said(tmp_path: Path) -> None:
    played = play_through(planned(tmp_path, "handset", "sending", "3 Pa"))
    assert played.trip is not None and "beyond the source" in played.trip.label


@pytest.mark.parametrize(("law", "of"), [("a", 4096), ("u", 8192)])
def test_both_laws_are_exact_to_the_bit(law: Any, of: int) -> None:
    """Digests of every step's octet and every octet's value, made with the standard library's own coder."""
    steps = np.arange(-of, of) / of
    octets = g711.encode(steps, law)
    values = np.rint(g711.decode(np.arange(256), law) * 32768).astype("<i2")
    digests = {
        "a": (
            "2d2398332fe4506f4fd5abcddd730c0c094ab4b83d4e72d084d8317885383206",
            "e04788d110e58ff8c70c93b8480190d973e3b67876b6119abbaec766cc75c174",
        ),
        "u": (
            "9ef9625b4e5e507d4b693bc8672fafbc070f278d1975cf7a8bf58a3d3e3743f0",
            "3dab54339e520bb2c924826e3b72a917a2b612e9fd12fc867500f1d983a75827",
        ),
    }
    assert (hashlib.sha256(octets.tobytes()).hexdigest(), hashlib.sha256(values.tobytes()).hexdigest()) == digests[law]
    # What was decoded is coded as it was.
    assert np.array_equal(
        np.unique(g711.decode(octets, law)), np.unique(g711.over_the_line(g711.decode(octets, law), law))
    )


def test_cases_of_a_requirement_are_run_in_turn_and_different_ones_are_not_compared(demo_lab: Any, tmp_path: Path) -> None:
    """Each step on its own bench; what moved between two cases would say nothing."""
    place = demo_lab.jobs / "0412" / "radio-handset" / "cases" / "cases.plan.yaml"
    text = place.read_text()
    assert str(demo_lab.folder) not in text and "rig: ../../../../rigs/earpiece.rig.yaml" in text
    head, _, rest = text.partition("- method:")
    steps = ["- method:" + s for s in rest.split("- method:")]
    place.write_text(head + steps[1] + steps[4], encoding="utf-8")  # idle noise mouth to line, receiving line to ear
    done = subprocess.run([sys.executable, "-m", "lucid_anvil.cli", "run", str(place), "--pace", "fast", "--json",
                           str(tmp_path / "f.json")], capture_output=True, text=True)  # fmt: skip
    assert done.returncode == 0, done.stdout + done.stderr
    found = json.loads((tmp_path / "f.json").read_text())
    assert found["verdict"] == "inside" and [r["verdict"] for r in found["readings"]] == ["inside", "inside"]
    assert not any("moved" in n for n in found["notes"])
