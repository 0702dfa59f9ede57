"""A pull of which means are kept: as many as the strain that must be seen wants, and every sample where it ends."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import h5py
import numpy as np
import pytest
from tests.conftest import Running

from lucid_anvil.core.errors import BadInput
from lucid_anvil.domains.frame.tension_points import Points, rate_of
from lucid_anvil.engine import launch
from lucid_anvil.engine.evaluating import evaluate_take
from lucid_anvil.engine.newplan import begin_plan
from lucid_anvil.engine.preparing import prepare
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.editing import put
from lucid_anvil.lab.takes import Take

FINEST, PARALLEL = 2e-5, 0.075
KEYS = ("modulus", "proof_0.2", "strength", "strain_at_strength", "strain_at_break", "energy_to_break")


@pytest.mark.parametrize("block", [7, 40, 400])
@pytest.mark.parametrize("speed", [0.0, 2e-5, 5e-4, 0.1])
def test_every_sample_is_in_one_point_and_none_covers_more_than_may_be(block: int, speed: float) -> None:
    made = Points(FINEST, PARALLEL, 1000.0, {"force": 2.0})
    x = np.cumsum(np.random.default_rng(3).standard_normal(4000))
    rows = [r for i in range(0, 4000 - block, block) for r in made.add(i / 1000, {"force": x[i : i + block]}, speed)]
    t, covers, force = (np.array([r[k] for r in rows]) for k in ("t", "covers", "force"))
    most = 1000 / rate_of(FINEST, speed, PARALLEL)
    assert np.all(covers <= max(most, 1)) and (covers.mean() > most / 3 or most < 3)
    ends = np.cumsum(covers)
    assert ends[-1] > 3900 - most - block
    for at, many, end, mean in zip(t, covers, ends, force, strict=True):
        first = int(end - many)
        assert at == pytest.approx((first + (many - 1) / 2) / 1000)
        assert mean == pytest.approx(x[first : int(end)].mean() / 2)


@pytest.fixture(scope="module")
def both(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Take]:
    """The same pull, with every sample and with means."""
    lab = begin_lab(tmp_path_factory.mktemp("points") / "own", "Bench of one", [], "K.B.", True)
    rig = lab.folder / "rigs" / "frame.rig.yaml"
    made = {}
    for name, more in (("all", {}), ("means", {"finest": "0.002 %", "whole": "0.5 s"})):
        plan = begin_plan("tension", rig, "Coupon", lab.jobs / name / "a.plan.yaml")
        put(plan, ("pull",), {"speed": "20 mm/min", **more})
        folder, note = plan.parent / "take-001", lab.folder / f"{name}.json"
        process = launch.start(plan, None, folder, "fast", note, "K.B.")
        run = Running(launch.wait_for(note, process, 60), process, folder)
        assert run.over(60).state == "done"
        launch.order(run.address, "close")
        process.wait(15)
        made[name] = Take(folder)
    return made


def test_means_read_as_every_sample_does(both: dict[str, Take]) -> None:
    whole, means = (evaluate_take(both[k]) for k in ("all", "means"))
    assert means.complete and both["means"].status() == "done"
    for key in KEYS:
        a, b = whole.reading(key), means.reading(key)
        assert a.value and b.value and abs(a.value - b.value) <= 1.5 * np.hypot(a.uncertainty or 0, b.uncertainty or 0)
    assert means.reading("strain_at_break").uncertainty == pytest.approx(  # every sample is there where it breaks
        whole.reading("strain_at_break").uncertainty, rel=0.5)  # fmt: skip
    size = [sum(f.stat().st_size for f in (both[k].folder / "raw.h5",)) for k in ("all", "means")]
    lengths = [both[k].recording().channels[0].length for k in ("all", "means")]
    assert lengths[1] < 0.2 * lengths[0] and size[1] < 0.5 * size[0]
    force = means.curve("force")
    assert force.x[-1] == pytest.approx(whole.curve("force").x[-1], abs=0.3) and all(np.diff(force.x) > 0)


def damaged(both: dict[str, Take], folder: Path, how: str) -> Take:
    shutil.copytree(both["means"].folder, folder)
    (folder / "raw.h5").chmod(0o644)
    with h5py.File(folder / "raw.h5", "r+") as file:
        table: Any = file["trend"]
        for held in table.values():
            if how == "cut":
                held.resize((held.shape[0] // 2,))
            elif held.attrs["label"] == b"force":
                held[...] *= 1.01
    return Take(folder)


@pytest.mark.parametrize(("how", "why"), [("cut", "neither as samples nor as means"), ("altered", "do not agree")])
def test_means_that_are_cut_or_not_the_records_make_no_whole_pull(
    both: dict[str, Take], tmp_path: Path, how: str, why: str
) -> None:
    made = evaluate_take(damaged(both, tmp_path / "take", how))
    assert not made.complete and any(why in note for note in made.notes)


def test_what_makes_no_sense_is_refused(tmp_path: Path) -> None:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True)
    plan = begin_plan("tension", lab.folder / "rigs" / "frame.rig.yaml", "Coupon", lab.jobs / "a" / "a.plan.yaml")
    put(plan, ("pull",), {"finest": "0 %"})
    with pytest.raises(BadInput, match="finest: it must be above zero"):
        prepare(plan)
