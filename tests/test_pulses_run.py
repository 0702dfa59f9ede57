"""Pulses on the stand-in frame: amplitude held while the specimen softens, ended by itself, guarded, read right."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from tests.reading import arrays

from lucid_anvil.core.errors import BadInput
from lucid_anvil.domains.frame.columns import Column
from lucid_anvil.domains.frame.cyclic import jumps_in
from lucid_anvil.domains.frame.cyclic_run import Pulses
from lucid_anvil.engine.inprocess import Played, play_through
from lucid_anvil.engine.newplan import begin_plan
from lucid_anvil.engine.preparing import Prepared, prepare
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.editing import put


@pytest.fixture
def rig(tmp_path: Path) -> Path:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True)
    return lab.folder / "rigs" / "pulser.rig.yaml"


def pulsed(rig: Path, pulse: dict[str, Any], **more: Any) -> tuple[Prepared, Played, Any]:
    jobs = rig.parent.parent / "jobs" / "a"
    plan = begin_plan("cyclic", rig, "Fender", jobs / f"{len(list(jobs.glob('*.yaml')))}.plan.yaml")
    put(plan, ("pulse",), pulse)
    for key, value in more.items():
        put(plan, (key,), value)
    prepared = prepare(plan)
    played = play_through(prepared)
    held = {k: c for k, c in played.channels.items() if k != "drive"}
    return prepared, played, prepared.method.evaluate(held, prepared.settings, played.marks)


def why(played: Played) -> list[str]:
    return [m["why"] for m in played.marks if m["kind"] == "pulsed"]


@pytest.mark.parametrize("pulse", [{"frequency": "1 Hz"}, {"frequency": "2 Hz", "shape": "sine"}])
@pytest.mark.parametrize("guess", ["0.4 kN/mm", "0.55 kN/mm"])
def test_the_peak_force_is_held_while_the_specimen_softens(rig: Path, pulse: dict[str, Any], guess: str) -> None:
    told = {"mean": "1.2 kN", "amplitude": "1 kN", "cycles": 40, "stiffness": guess, **pulse}
    _, played, found = pulsed(rig, told)
    hertz = float(pulse["frequency"].split()[0])
    _, top = arrays(found.curve("force_max"))
    _, low = arrays(found.curve("force_min"))
    assert why(played) == ["cycles"] and found.reading("cycles").value in (38, 39, 40)
    assert np.abs(top[11:] / 2200 - 1).max() < (0.01 if hertz < 1.5 else 0.02) and top.max() < 1.03 * 2200
    assert np.abs(low[11:] - 200).max() < 0.01 * 2200
    # True: 0.36 kN/mm, four percent softer a decade, and what its loss adds at this frequency.
    truth = 0.36e6 * 0.96 ** np.log10(40) * np.hypot(1, 0.12 * hertz)
    assert found.reading("stiffness_final").value == pytest.approx(truth, rel=0.01)
    _, energy = arrays(found.curve("energy"))
    assert np.all(energy > 0)


def test_length_is_held_where_length_is_wanted(rig: Path) -> None:
    told = {"control": "length", "mean": "4 mm", "amplitude": "3 mm", "frequency": "1 Hz", "cycles": 20}
    _, _, found = pulsed(rig, told)
    _, top = arrays(found.curve("displacement_max"))
    _, low = arrays(found.curve("displacement_min"))
    assert np.abs(top[11:] - 7e-3).max() < 7e-5 and np.abs(low[11:] - 1e-3).max() < 7e-5
    assert top.max() < 1.03 * 7e-3


def test_it_ends_by_itself_where_the_specimen_is_spent(rig: Path) -> None:
    rig.write_text(rig.read_text().replace("softening: 4 %", "softening: 25 %"))
    told = {"mean": "1.2 kN", "amplitude": "1 kN", "frequency": "2 Hz", "cycles": 500}
    _, played, found = pulsed(rig, told, stop_share="80 %", initial_cycle=6)
    assert why(played) == ["stiffness"]
    assert found.reading("cycles_to_stop").value == pytest.approx(found.reading("cycles").value, abs=4)
    assert found.reading("cycles").value < 200


def test_a_force_beyond_its_limit_rests_the_crosshead(rig: Path) -> None:
    rig.write_text(rig.read_text().replace("limit: 5 kN", "limit: 1.5 kN"))
    _, played, found = pulsed(rig, {"mean": "1.2 kN", "amplitude": "1 kN", "frequency": "1 Hz", "cycles": 30})
    assert played.trip is not None and played.trip.guard == "force"
    force = np.abs(played.channels["force"].samples()) / 1e-3
    assert force.max() < 1.1 * 1500  # in the middle of a rise of 6 kN/s, seen and stopped within three blocks of 16 ms
    assert found.reading("cycles").value < 30


@pytest.mark.parametrize(
    ("pulse", "text"), [({"amplitude": "2 kN"}, "plates would part"), ({"mean": "2 mm"}, "turned into"),
                        ({"cycles": 0}, "greater than or equal"), ({"frequency": "0 Hz"}, "above zero")],
)  # fmt: skip
def test_what_makes_no_sense_is_refused(rig: Path, pulse: dict[str, Any], text: str) -> None:
    with pytest.raises(BadInput, match=text):
        pulsed(rig, pulse)


def test_what_the_crosshead_is_too_slow_for_is_refused_and_told_where_it_comes_later(rig: Path) -> None:
    told = {"mean": "1.2 kN", "amplitude": "1 kN", "frequency": "5 Hz", "cycles": 30}
    with pytest.raises(BadInput, match="need 78.5 mm/s of the crosshead, which does 49 mm/s"):
        pulsed(rig, told)
    # Half as stiff as was guessed: it goes as fast as it can and no further.
    _, played, found = pulsed(rig, {**told, "frequency": "3.5 Hz", "stiffness": "0.6 kN/mm"})
    assert [m["kind"] for m in played.marks].count("fastest") == 1
    assert any("could go no faster" in n for n in found.notes)
    speed = np.abs(np.diff(played.channels["displacement"].samples()[::40])) * 100 / 0.2
    assert speed.max() < 50.5


def test_a_specimen_four_times_softer_than_guessed_is_no_broken_one(rig: Path) -> None:
    rig.write_text(rig.read_text().replace("stiffness: 0.36 kN/mm", "stiffness: 0.1 kN/mm"))
    told = {"mean": "60 N", "amplitude": "40 N", "frequency": "0.5 Hz", "cycles": 14}
    _, played, found = pulsed(rig, told)
    assert why(played) == ["cycles"] and found.reading("stiffness_final").value == pytest.approx(100e3, rel=0.1)


def test_pulses_of_few_blocks_do_not_hunt(rig: Path) -> None:
    rig.write_text(rig.read_text().replace("rate: 4 kHz", "rate: 1 kHz"))
    told = {"mean": "0.8 kN", "amplitude": "0.5 kN", "frequency": "5 Hz", "cycles": 120}  # three blocks a cycle
    _, _, found = pulsed(rig, told)
    _, top = arrays(found.curve("force_max"))
    _, low = arrays(found.curve("force_min"))
    assert top.max() < 1.03 * 1300 and np.abs(top[60:] / 1300 - 1).max() < 0.025
    assert np.abs(low[60:] - 300).max() < 0.025 * 1300
    with pytest.raises(BadInput, match="too fast for a front end"):
        pulsed(rig, {**told, "frequency": "8 Hz", "amplitude": "0.2 kN"})


def test_blocks_of_different_sizes_follow_one_another_and_are_repeated(rig: Path) -> None:
    sizes = [(1.2, 1.0, 12), (0.8, 0.5, 15), (2.0, 1.5, 12)]
    blocks = [{"mean": f"{m} kN", "amplitude": f"{a} kN", "cycles": n} for m, a, n in sizes]
    prepared, played, found = pulsed(rig, {"frequency": "2 Hz", "blocks": blocks, "repeats": 2})
    assert [i.label for i in prepared.course()][1:4] == ["12 × 1.2 ± 1 kN", "15 × 0.8 ± 0.5 kN", "12 × 2 ± 1.5 kN"]
    assert len(prepared.course()) == 7 and why(played) == ["cycles"] and played.trip is None
    assert found.reading("cycles").value in (76, 77, 78)
    assert [m["number"] for m in played.marks if m["kind"] == "block"] == [1, 2, 3, 4, 5]
    _, top = arrays(found.curve("force_max"))
    _, low = arrays(found.curve("force_min"))
    begun = 0
    for m, a, n in sizes * 2:
        settled = slice(begun + 8, begun + n - 2)
        assert np.abs(top[settled] / (1e3 * (m + a)) - 1).max() < 0.025
        assert np.abs(low[settled] - 1e3 * (m - a)).max() < 0.025 * 1e3 * (m + a)
        assert top[begun + 1 : begun + n - 2].max() < 1.03 * 1e3 * (m + a)
        begun += n
    assert not any("at once" in note for note in found.notes)
    (said,) = [n for n in found.notes if "changed their size" in n]
    assert "…" in said and int(said.split()[2].strip(",")) in (11, 12, 13)


def test_a_stopped_run_goes_on_with_its_count_and_is_read_as_one(rig: Path) -> None:
    told = {"mean": "1.2 kN", "amplitude": "1 kN", "frequency": "2 Hz", "cycles": 60}
    prepared, whole, _ = pulsed(rig, told, stop_share="50 %")
    first = play_through(prepared, longest=18.0)
    assert first.position is not None and not why(first)
    at = first.position["cycle"]
    assert 20 < at < 32 and first.position["first"] == pytest.approx(4e5, rel=0.3)
    second = play_through(prepared, start=first.position)
    (mark,) = [m for m in second.marks if m["kind"] == "pulses"]
    assert mark["before"] == at and why(second) == ["cycles"] and second.trip is None
    parts = [({k: c for k, c in p.channels.items() if k != "drive"}, prepared.settings, p.marks) for p in (first, second)]
    both, last = prepared.method.together(parts), prepared.method.evaluate(*parts[1])
    counted = both.reading("cycles").value
    assert counted is not None and 55 <= counted <= 62 and last.reading("cycles").value == pytest.approx(60 - at, abs=3)
    assert both.reading("stiffness_initial").value == prepared.method.evaluate(*parts[0]).reading("stiffness_initial").value
    assert any("went on 1 times" in n for n in both.notes) and not any("at once" in n for n in both.notes)
    x, top = arrays(both.curve("force_max"))
    assert x[-1] == counted and top.max() < 1.03 * 2200
    assert [m for m in second.marks if m["kind"] == "zero"][0]["force"] == first.position["zero"]["force"]


def test_a_sensor_that_lies_where_the_size_changes_is_told_all_the_same(rig: Path) -> None:
    blocks = [{"mean": "1.2 kN", "amplitude": "1 kN", "cycles": 12}, {"mean": "0.8 kN", "amplitude": "0.5 kN", "cycles": 20}]
    text = rig.read_text()
    rig.write_text(text.replace("  seed: 51\n", "  seed: 51\n  faults: [{at: 11.05 s, kind: gain_jump, channel: force,"
                                " size: -0.6}]\n"))  # fmt: skip
    _, played, found = pulsed(rig, {"frequency": "2 Hz", "blocks": blocks})
    (turned,) = [m["t"] for m in played.marks if m["kind"] == "block"]
    assert abs(turned - 11.05) < 1.0
    assert played.trip is not None and played.trip.guard == "stiffness" and "fell" in played.trip.label
    assert jumps_in(np.r_[np.full(10, 4e5), np.full(10, 1.5e5)], frozenset({0, 10}))
    assert not jumps_in(np.r_[np.full(10, 4e5), np.full(10, 2.8e5)], frozenset({0, 10}))


def test_columns_of_ones_own_are_computed_live_and_afterwards(rig: Path) -> None:
    columns = [{"name": "Stress", "formula": "force_max / area", "unit": "kPa"},
               {"name": "Left", "formula": "stiffness / first(stiffness)", "unit": "%"},
               {"name": "Energy share", "formula": "energy / last(energy)"}]  # fmt: skip
    told = {"mean": "1.2 kN", "amplitude": "1 kN", "frequency": "2 Hz", "cycles": 12}
    specimen = {"area": "2500 mm^2", "parallel_length": "40 mm"}
    prepared, played, found = pulsed(rig, told, columns=columns, specimen=specimen, limits={"own_left": {"low": "50 %"}})
    stress, left = found.curve("own_stress"), found.curve("own_left")
    assert stress.label == "Stress = force_max / area" and (stress.y_unit, left.y_unit) == ("kPa", "%")
    assert np.allclose(stress.y, np.array(found.curve("force_max").y) / 2500e-6 / 1e3)
    assert left.y[0] == pytest.approx(100) and found.reading("own_left").value == pytest.approx(left.y[-1])
    assert found.reading("own_left").low == 50 and found.reading("own_left").verdict == "open"  # no doubt is stated
    held = {k: c for k, c in played.channels.items() if k != "drive"}
    given = prepared.settings.model_copy(update={"limits": {}, "columns": [
        Column(name="Side", formula="lateral_swing / length")]})  # fmt: skip
    elsewhere = prepared.method.evaluate(held, given, played.marks)  # a record that has no such channel
    assert any("lateral_swing" in n for n in elsewhere.notes) and elsewhere.reading("own_side").value is None
    assert [v.key for v in prepared.method.shown(prepared.settings)][-2:] == ["own_left", "own_energy_share"]
    pulses = Pulses(prepared.settings, prepared.facts)
    for k in range(9):
        way = {"displacement_max": (6 + 0.1 * k) * 1e-3, "displacement_min": 1e-3,
               "displacement_swing": (5 + 0.1 * k) * 1e-3}  # fmt: skip
        pulses.keep_shown({"cycle": k + 1.0, "force_max": 2200.0, "force_min": 200.0, "force_swing": 2000.0,
                           "energy": 2.0 - 0.1 * k, "angle": 7.0, **way})  # fmt: skip
    shown = pulses.live({"force": np.zeros(4), "displacement": np.zeros(4)})["shown"]
    assert shown["Stress = force_max / area"] == "880 kPa" and float(shown[columns[1]["name"] + " = " + columns[1]["formula"]
                                                                           ].split()[0]) < 100  # fmt: skip


@pytest.mark.parametrize(
    ("column", "text"),
    [({"name": "a", "formula": "force_max + energy"}, "N and J do not go together"),
     ({"name": "a", "formula": "forc_max"}, "did you mean 'force_max'"), ({"name": "?", "formula": "1"}, "a name that no"),
     ({"name": "a", "formula": "force_max", "unit": "mm"}, "can't be shown in mm")],
)  # fmt: skip
def test_columns_that_can_not_be_are_refused_in_the_plan(rig: Path, column: dict[str, str], text: str) -> None:
    with pytest.raises(BadInput, match=text):
        pulsed(rig, {}, columns=[column])


@pytest.mark.parametrize(
    ("pulse", "text"),
    [({"blocks": [{"mean": "1 kN", "amplitude": "2 kN", "cycles": 3}]}, "block 1: its amplitude"),
     ({"blocks": [{"mean": "1 mm", "amplitude": "1 kN", "cycles": 3}]}, "block 1, mean"), ({"repeats": 2}, "no blocks")],
)  # fmt: skip
def test_blocks_that_make_no_sense_are_refused(rig: Path, pulse: dict[str, Any], text: str) -> None:
    with pytest.raises(BadInput, match=text):
        pulsed(rig, pulse)


@pytest.mark.parametrize("size", [-0.5, -0.3, 0.45])
@pytest.mark.parametrize("at", [9.0, 9.2, 9.45, 9.75, 10.1])
def test_a_load_cell_that_lies_does_not_press_harder(rig: Path, size: float, at: float) -> None:
    text = rig.read_text()
    lie = f"  faults: [{{at: {at} s, kind: gain_jump, channel: force, size: {size}}}]\n"
    rig.write_text(text.replace("  seed: 51\n", f"  seed: 51\n{lie}"))
    _, played, found = pulsed(rig, {"mean": "1.2 kN", "amplitude": "1 kN", "frequency": "1 Hz", "cycles": 40})
    assert played.trip is not None and played.trip.guard == "stiffness"
    assert ("fell" if size < 0 else "rose") in played.trip.label and "a sensor or its lead" in played.trip.label
    force = np.abs(played.channels["force"].samples()) / 1e-3
    t = np.arange(force.size) / played.channels["force"].rate - 16e-3
    true = np.where(t >= at, force / (1 + size), force)[np.abs(t - at) > 0.04]
    assert played.trip.t < at + 3.2 and true.max() < 1.2 * 2200
    assert not any(m["kind"] == "pulsed" for m in played.marks)
    assert found.reading("cycles").value < 15


def with_transducer(rig: Path, stands: str) -> None:
    text = rig.read_text().replace("lag: 5 ms,", f"lag: 5 ms, unset: {{inner: {stands}}},")
    text = text.replace("  - {role: displacement", "  - {role: inner, input: 3, kind: length, range: 10 V, sensor: GX-03,"
                        " sensitivity: 1 V/mm, supply: off}\n  - {role: displacement")  # fmt: skip
    rig.write_text(text.replace("    GX-02:", "    GX-03: {sensitivity: 1 V/mm, low_corner: 0 Hz, noise: 2e-6 m}\n"
                                              "    GX-02:"))  # fmt: skip


def test_stages_before_the_pulses_each_have_their_own_end(rig: Path) -> None:
    with_transducer(rig, "7.9 mm")
    before = [{"do": "contact", "load": "100 N"}, {"do": "hold", "load": "300 N", "over": "2 s", "steady": "20 um"},
              {"do": "transducers", "within": "15 %"}]  # fmt: skip
    prepared, played, found = pulsed(rig, {"mean": "1.2 kN", "amplitude": "1 kN", "cycles": 12, "before": before})
    ends = {m["stage"]: (m["t"], m["why"]) for m in played.marks if m["kind"] == "before"}
    assert [e[1] for e in ends.values()] == ["borne", "steady", "set"] and why(played) == ["cycles"]
    assert [c.label for c in prepared.course()][1:4] == [
        "Contact load, 0.1 kN", "Held until it rests, 0.3 kN", "Transducers into range"]  # fmt: skip
    force, rate = -played.channels["force"].samples() / 1e-3, prepared.facts.rate
    at = {k: int(t * rate) for k, (t, _) in ends.items()}
    assert force[at["contact"]] == pytest.approx(100, abs=6) and force[: at["contact"]].max() < 110
    assert np.mean(force[at["hold"] - 400 : at["hold"]]) == pytest.approx(300, rel=0.02)
    # The transducer was moved: what it shows of the pulses is as far as the crosshead goes, from its new zero.
    assert len([m for m in played.marks if m["kind"] == "zero"]) == 2
    assert abs(played.channels["inner"].samples()[at["transducers"]]) < 0.15 * 10
    pairs = [(found.curve(f"{role}_swing").y[-1], found.reading(f"permanent_{role}").value) for role in ("inner", "displacement")]
    assert pairs[0] == pytest.approx(pairs[1], rel=0.02, abs=2e-5)


def test_what_does_not_rest_and_what_a_person_skips_is_said(rig: Path) -> None:
    hold = {"do": "hold", "load": "300 N", "over": "3 s", "steady": "0.01 um", "most": "4 s"}
    _, played, found = pulsed(rig, {"cycles": 12, "before": [hold]})
    assert [m["why"] for m in played.marks if m["kind"] == "before"] == ["not steady"] and why(played) == ["cycles"]
    assert any("stage 1 (hold) did not rest" in n for n in found.notes)
    with pytest.raises(BadInput, match="no transducer of length"):
        pulsed(rig, {"cycles": 12, "before": [{"do": "transducers"}]})
    with_transducer(rig, "8 mm")
    with pytest.raises(BadInput, match="no transducer 'outer' here: inner"):
        pulsed(rig, {"cycles": 12, "before": [{"do": "transducers", "channels": ["outer"]}]})
    with pytest.raises(BadInput, match="load must be above zero"):
        pulsed(rig, {"cycles": 12, "before": [{"do": "hold"}]})
    # Asked again as long as one is out; the window shows how far.
    prepared = prepare(sorted((rig.parent.parent / "jobs" / "a").glob("*.yaml"))[0])
    put(prepared.plan_file, ("pulse", "before"), [{"do": "transducers"}])
    prepared, asked = prepare(prepared.plan_file), []

    def answers(live: Any) -> Any:
        asked.append(live["ask"])
        return ({"order": "skip" if len(asked) > 3 else "go"},) if len(asked) != 2 else ()

    played = play_through(prepared, answers=answers)
    assert "inner +8 of ±10 mm. The pulses will move them by some 5.5 mm." in asked[0] and "still out" in asked[1]
