"""Sweeps at several temperatures laid over one another: shifts, WLF and Arrhenius against what the sweeps were made from."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from lucid_anvil.contracts.finding import Curve, Finding
from lucid_anvil.core.errors import BadInput
from lucid_anvil.core.frame.superposition import Sweep, superpose
from lucid_anvil.domains.frame.standin_viscous import ViscousPart, modulus, shift
from lucid_anvil.lab.superposing import master

PART = ViscousPart()
F = np.geomspace(0.3, 30, 9)


def sweep(temperature: float, noise: float = 0.0, seed: int = 1) -> Sweep:
    rng = np.random.default_rng([seed, int(temperature * 10)])
    made = np.array([modulus(PART, f, temperature).real for f in F])
    return Sweep(temperature, F, made * (1 + noise * rng.standard_normal(F.size)))


def test_shifts_and_both_laws_are_those_of_the_specimen() -> None:
    heat = [58.0, 61.0, 64.0, 67.0, 70.0, 74.0]
    found = superpose([sweep(t) for t in reversed(heat)], 64.0)
    assert found.reference == 64.0 and found.temperatures == tuple(heat)
    true = np.array([shift(PART, t) - shift(PART, 64.0) for t in heat])
    assert np.abs(np.array(found.shifts) - true).max() < 0.03 and found.shifts[2] == 0 == found.doubts[2]
    # WLF re another temperature: c1·c2 stays, c2 moves with it (Ferry, 11).
    assert found.wlf is not None and found.arrhenius is not None
    c2 = PART.c2 + (64.0 - PART.reference)
    assert found.wlf.values == pytest.approx((PART.c1 * PART.c2 / c2, c2), rel=0.06)
    assert found.wlf.rest < 0.01 < found.arrhenius.rest
    middle = superpose([sweep(t) for t in heat])
    assert middle.reference == 67.0


def test_an_arrhenius_specimen_gives_its_energy() -> None:
    energy, heat = 100e3, np.array([20.0, 40.0, 60.0, 80.0])
    made = []
    for t in heat:
        lg = energy / (8.31446261815324 * np.log(10)) * (1 / (t + 273.15) - 1 / (293.15))
        made.append(Sweep(t, F, 10 ** (6 + 0.6 * np.log10(F * 10**lg))))
    found = superpose(made, 20.0)
    assert found.arrhenius is not None
    assert found.arrhenius.values[0] == pytest.approx(energy, rel=1e-6) and found.arrhenius.rest < 1e-9


def test_the_doubt_of_shifts_covers_what_noise_does() -> None:
    heat = [60.0, 64.0, 68.0]
    inside = 0
    for seed in range(60):
        found = superpose([sweep(t, 0.02, seed) for t in heat], 60.0)
        true = shift(PART, 68.0) - shift(PART, 60.0)
        inside += abs(found.shifts[2] - true) < 2 * found.doubts[2]
    assert inside >= 50


def test_the_doubt_of_the_laws_covers_what_noise_does_however_well_few_points_fit() -> None:
    """Four temperatures can lie on the law to a hundred-thousandth by chance, and tell its constants to no such digit."""
    for heat, count in (([60.0, 62.0, 64.0, 66.0, 68.0, 70.0], 9), ([62.0, 65.0, 68.0, 71.0], 4)):
        inside, wide = 0, []
        for seed in range(60):
            sweeps = [sweep(t, 0.005, seed) for t in heat]
            step = np.linspace(0, F.size - 1, count).astype(int)
            found = superpose([Sweep(s.temperature, s.frequency[step], s.storage[step]) for s in sweeps])
            assert found.wlf is not None
            c2 = PART.c2 + found.reference - PART.reference
            off = np.array(found.wlf.values) - (PART.c1 * PART.c2 / c2, c2)
            inside += bool(np.all(np.abs(off) < 2 * np.array(found.wlf.doubts)))
            wide.append(found.wlf.doubts[0] / found.wlf.values[0])
        assert inside >= 50 and np.min(wide) > 0.002


@pytest.mark.parametrize(
    ("made", "why"),
    [([sweep(60)], "two temperatures"), ([sweep(60), sweep(60.01)], "same temperature"),
     ([sweep(45), sweep(90)], "45.0 and 90.0 °C do not overlap")],
)  # fmt: skip
def test_what_can_not_be_laid_over_one_another_is_said(made: list[Sweep], why: str) -> None:
    with pytest.raises(BadInput, match=why):
        superpose(made)


def finding(temperature: float | None, unit: str = "Hz") -> Finding:
    made = sweep(60.0 if temperature is None else temperature)
    curve = Curve("storage", "Storage modulus", tuple(F), tuple(made.storage / 1e6), unit, "MPa")
    return Finding("dma", (), (curve,), detail=None if temperature is None else {"temperature": temperature})


def test_a_master_curve_of_takes_says_what_it_found() -> None:
    made = master([(f"at {t:g}", finding(t)) for t in (66.0, 58.0, 62.0, 70.0)], 62.0)
    assert made.names == ("at 58", "at 62", "at 66", "at 70")
    said = " ".join(made.words())
    assert "Reference 62.0 °C, 4 temperatures" in said and "WLF: c1 =" in said and "nearer to WLF" in said
    whole = np.concatenate([made.reduced(i) for i in range(4)])
    assert whole.max() / whole.min() > 1e3 * (F[-1] / F[0]) / 100
    for one, why in ((finding(None), "not measured"), (finding(60.0, "°C"), "no dynamic analysis")):
        with pytest.raises(BadInput, match=why):
            master([("a", finding(62.0)), ("b", one)])


def test_it_is_shown_in_the_lightbox_and_on_the_command_line(qtbot: Any, tmp_path: Path) -> None:
    from lucid_anvil.desktop.lightbox.master_view import MasterView

    view = MasterView()
    qtbot.addWidget(view)
    view.resize(900, 500)
    view.show_master(master([(f"{t:g}", finding(t)) for t in (58.0, 62.0, 66.0, 70.0)]))
    view.show()
    assert {"sweep 0", "sweep 3"} <= set(view.curve.series) and {"shifts", "wlf"} <= set(view.shifts.series)
    assert "temperatures" in view.told.text()
    view.repaint_charts()
    done = subprocess.run([sys.executable, "-m", "lucid_anvil.cli", "superpose", str(tmp_path / "none")],
                          capture_output=True, text=True)  # fmt: skip
    assert done.returncode == 2 and "none" in done.stderr
