"""Courses of shaker tests: a person is asked in the middle of one, and several records are played in a row."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from tests.test_desktop import until

from lucid_anvil.contracts.method import Got
from lucid_anvil.core.errors import BadInput
from lucid_anvil.desktop.parts import course_menu
from lucid_anvil.domains.shaker.course import Stretch
from lucid_anvil.domains.shaker.profiles import prepare_history, profile_of
from lucid_anvil.domains.shaker.run import ShakerRun
from lucid_anvil.domains.shaker.window.record_fields import with_part, with_record, without_record
from lucid_anvil.engine.inprocess import play_through
from lucid_anvil.engine.preparing import files_kept, plan_as_kept
from lucid_anvil.lab.textfiles import load_yaml
from test_shaker_control import prepared, random_settings, shocks, sine

ASK = {"ask": "Turn the article"}


def record_settings(folder: Path) -> dict[str, Any]:
    return {"profile": {"kind": "time", "file": str(shocks(folder, 3.0))}, "control": {"passes": 3}}


@pytest.mark.parametrize("kind", ["sine", "random", "record"])
def test_the_drive_rests_until_it_is_done(kind: str, tmp_path: Path) -> None:
    course: list[dict[str, Any]]
    if kind == "sine":
        course = [{"sweep": "up"}, ASK, {"dwell": "100 Hz", "duration": "3 s"}]
        p = prepared("sine-sweep", sine(60, 160, "20 oct/min", course=course))
    elif kind == "random":
        course = [{"random": True, "duration": "5 s"}, ASK, {"random": True, "duration": "5 s"}]
        p = prepared("random-vibration", random_settings(course=course))
    else:
        course = [{"history": True}, ASK, {"history": True}]
        p = prepared("time-replication", {**record_settings(tmp_path), "course": course})
    made = play_through(p)
    assert made.trip is None, made.trip
    asked, done = (next(m["t"] for m in made.marks if m.get("text") == f"{word}: Turn the article")
                   for word in ("asked", "done"))  # fmt: skip
    drive = made.channels["drive"]
    assert done > asked and not np.any(drive.between(asked + 0.1, done))
    assert np.std(drive.between(done + 0.5, drive.duration)) > 0.01
    # Nothing of what was asked for counts as missing, and the time of a person is none of the course's.
    finding = p.method.evaluate(made.channels, p.settings, made.marks)
    assert finding.complete, finding.missing
    labels = [i.label for i in p.method.course(p.settings)]
    assert "Asks: Turn the article" in labels
    assert next(i.duration for i in p.method.course(p.settings) if i.label.startswith("Asks")) == 0


def test_only_a_persons_word_goes_on(tmp_path: Path) -> None:
    course = [{"dwell": "100 Hz", "duration": "2 s"}, ASK, {"dwell": "90 Hz", "duration": "2 s"}]
    p = prepared("sine-sweep", sine(60, 160, "20 oct/min", course=course))
    run = ShakerRun(p.settings, p.facts)
    going = run.rest(Stretch("ask", 0.0, text="Turn the article"), 1)
    want, quiet = next(going), {r: np.zeros(run.n) for r in [*run.all_roles, "drive"]}
    assert want.position == {"item": 1, "at": 0.0}  # a run that is cut here goes on by asking again

    def send(k: int, *orders: dict[str, Any]) -> Any:
        return going.send(Got(k, k * run.span, quiet, frozenset(), None, orders, {}))

    for k in range(50):
        want = send(k, {"order": "level", "by": -1.0}, {"order": "hold"})
        assert not np.any(want.drive) and want.live["stage"] == "asking" and want.live["ask"] == "Turn the article"
    want = send(50, {"order": "go"})
    assert want.marks[0]["text"] == "done: Turn the article" and not np.any(want.drive)
    with pytest.raises(StopIteration):
        send(51)


def test_an_empty_question_and_one_that_is_a_pause_too_are_refused() -> None:
    for bad, why in (({"ask": "  "}, "say what is to be done"), ({"ask": "x", "pause": "1 s"}, "one of sweep")):
        with pytest.raises(BadInput, match=why):
            prepared("sine-sweep", sine(60, 160, "20 oct/min", course=[bad]))


def test_a_question_is_added_and_changed_like_any_stretch() -> None:
    for name, kinds in course_menu.NEW.items():
        step = dict(kinds)["Ask a person"]
        assert course_menu.kind_of(step) == "ask"
        assert course_menu.added(course_menu.course_in({}, name), step)[-1] == step


# --- several records in a row ----------------------------------------------------------------------------------------


def test_records_stand_in_a_row_at_rest_between_them(tmp_path: Path) -> None:
    one, two = shocks(tmp_path, 2.0), shocks(tmp_path / "b", 3.0, 5120.0)
    part = profile_of({"kind": "time", "file": str(one), "times": 2, "then": [
        {"file": str(two), "scale": 0.5, "after": "2 s"}, {"file": str(one)}]}, "t")  # fmt: skip
    made, _ = prepare_history(part, tmp_path)
    alone = [prepare_history(profile_of({"kind": "time", "file": str(f), "scale": s}, "t"), tmp_path)[0].after
             for f, s in ((one, 1.0), (two, 0.5))]  # fmt: skip
    a, rate = made.after.acceleration, made.after.rate
    assert rate == 5120.0 and a.size / rate == pytest.approx(2 + 1 + 2 + 2 + 3 + 1 + 2, abs=0.01)
    at = lambda t: round(t * rate)  # noqa: E731
    assert not np.any(a[at(2.001) : at(2.999)]) and not np.any(a[at(5.001) : at(6.999)])
    assert np.allclose(a[at(7) : at(7) + alone[1].acceleration.size], alone[1].acceleration)
    assert np.std(a[: at(2)]) == pytest.approx(np.std(alone[0].acceleration), rel=0.02)
    assert np.allclose(a[: at(2)], a[at(11) : at(11) + at(2)], atol=1e-9)
    # Wherever one ends, velocity and displacement are those of rest.
    for t in (2.5, 6.0, 10.5):
        assert abs(made.after.velocity[at(t)]) < 1e-3 * np.max(np.abs(made.after.velocity))
    assert any(n.startswith("Record 2") for n in made.notes)


def test_a_schedule_is_driven_and_kept_with_its_files(tmp_path: Path) -> None:
    one, two = shocks(tmp_path, 2.0), shocks(tmp_path / "b", 2.0)
    profile = {"kind": "time", "file": str(one), "then": [{"file": str(two), "scale": 0.6}]}
    p = prepared("time-replication", {"profile": profile, "control": {"passes": 4}})
    assert files_kept(p) == {f"profile{one.suffix}": one, f"profile-2{two.suffix}": two}
    kept = plan_as_kept(p)["steps"][0]["settings"]["profile"]
    assert kept["file"] == f"profile{one.suffix}" and kept["then"][0] == {"file": f"profile-2{two.suffix}", "scale": 0.6}
    made = play_through(p)
    assert made.trip is None, made.trip
    finding = p.method.evaluate(made.channels, p.settings, made.marks)
    assert finding.complete and finding.reading("rms_error").value < 8
    assert finding.curve("target").x[-1] > 4.5


def test_records_are_typed_added_and_removed() -> None:
    data: dict[str, Any] = {"kind": "time", "title": "Both", "file": "a.csv", "scale": 2.0}
    more = with_record(data, {"file": "b.csv"})
    assert more["then"] == [{"file": "b.csv"}] and "then" not in data
    typed = with_part(with_part(more, "cut.start", "1 s", 1), "times", "3", 1)
    assert typed["then"] == [{"file": "b.csv", "cut": {"start": "1 s"}, "times": 3}] and typed["scale"] == 2.0
    assert with_part(typed, "cut.start", "", 1)["then"] == [{"file": "b.csv", "times": 3}]
    left = without_record(typed, 0)
    assert left == {"kind": "time", "title": "Both", "file": "b.csv", "cut": {"start": "1 s"}, "times": 3}
    assert without_record(typed, 1) == data
    with pytest.raises(BadInput, match="only record"):
        without_record(left, 0)


def test_a_record_is_added_in_the_window(window: Any, demo_lab: Any, tmp_path: Path) -> None:
    place = next(p for p in demo_lab.jobs.rglob("*.plan.yaml")
                 if load_yaml(p)["steps"][0]["method"] == "time-replication")  # fmt: skip
    window.go("Bench")
    bench = window.bench
    bench.open_plan(place)
    until(lambda: bench.plan_file == place and bench.state == "walk-round" and bool(bench.walk.shown))
    side, fields = bench.kinds["shaker"], bench.kinds["shaker"].stage.fields
    before = sum(i.duration for i in bench.prepared.course())
    side.add_record(shocks(tmp_path, 3.0))
    until(lambda: not bench.aside.open)
    assert fields.which.count() == 2 and fields.number == 1 and fields.drop.isEnabled()
    assert sum(i.duration for i in bench.prepared.course()) > before + 3
    fields.boxes["scale"].setText("0.5")
    fields.boxes["scale"].editingFinished.emit()
    until(lambda: not bench.aside.open)
    assert bench.prepared.settings.time().then[0].scale == 0.5
    fields.drop.click()
    until(lambda: not bench.aside.open)
    assert fields.which.count() == 1 and not bench.prepared.settings.time().then
    other = tmp_path / "x"
    other.mkdir()
    name = shocks(tmp_path, 3.0).name
    (other / name).write_text("something else\n")
    side.add_record(other / name)
    assert "another file of that name" in side.stage.word.text()
