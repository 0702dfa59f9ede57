"""Tension, cycles and complex modulus, from records of known truth."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from tests.reading import arrays, doubt, read, value

from lucid_anvil.core.errors import BadInput
from lucid_anvil.core.frame import cycles, dynamic, tension

E = 200e9
AREA = np.pi * 0.01**2 / 4
ROUND = {"diameter": "10 mm", "gauge_length": "50 mm", "parallel_length": "60 mm", "transverse_length": "10 mm"}


def law(stress: Any) -> Any:
    """Strain of a made-up steel: elastic, and hardening by a power."""
    return stress / E + 0.002 * (np.asarray(stress) / 350e6) ** 15


def bar(
    seed: int | None = None, toe: float = 0.0, compliance: float = 0.0, scale: float = 1.0
) -> dict[str, np.ndarray]:
    """Force [N], extension and displacement [m] of a bar that is pulled until it breaks at 5 % of strain."""
    top = np.linspace(0, 450e6, 60001)
    strain = np.concatenate([np.linspace(0, 0.004, 2500), np.linspace(0.004, 0.05, 2500)[1:]])
    stress = np.interp(strain, law(top), top)
    stress = stress * (1 - (np.maximum(strain - 0.04, 0) / 0.04) ** 2)
    strain = np.concatenate([strain, strain[-1] + np.array([1e-5, 2e-5, 3e-5])])
    stress = np.concatenate([stress, [0.9 * stress[-1], 0.2 * stress[-1], 0.0]])
    force = stress * AREA
    seen = strain + toe * (1 - np.exp(-stress / 8e6))  # a slack that is taken up
    made = {"force": force, "extension": seen * 0.05, "displacement": strain * 0.06 + compliance * force,
            "transverse": -0.29 * strain * 0.01}  # fmt: skip
    if seed is not None:
        rng = np.random.default_rng(seed)
        made["force"] = made["force"] + scale * rng.normal(0, 2.5e-4 * force.max(), force.size)
        made["extension"] = made["extension"] + scale * rng.normal(0, 0.3e-6, force.size)
    return made


def pulled(made: dict[str, np.ndarray], roles: tuple[str, ...] = ("extension",), **settings: Any) -> Any:
    channels = {"force": ("kN", made["force"] / 1e3), **{r: ("mm", made[r] * 1e3) for r in roles}}
    return read("tension", 50.0, channels, **{"specimen": ROUND, **settings})


# --- tension -------------------------------------------------------------------------------------------------


def test_a_bar_is_read_by_its_definitions() -> None:
    found = pulled(bar(), ("extension", "transverse"), proof=["0.2 %", "1 %"])
    assert value(found, "modulus") == pytest.approx(200, rel=1e-3)
    exact = np.linspace(300e6, 450e6, 200001)
    for p in (0.2, 1.0):  # where the law meets the shifted line
        met = exact[np.argmin(np.abs(law(exact) - exact / E - p / 100))]
        assert value(found, f"proof_{p:g}") == pytest.approx(met / 1e6, rel=5e-4)
    curve = bar()
    assert value(found, "strength") == pytest.approx(curve["force"].max() / AREA / 1e6, rel=1e-9)
    assert value(found, "strain_at_break") == pytest.approx(5.001, abs=1e-6)
    assert value(found, "poisson") == pytest.approx(0.29, rel=1e-6)
    strain, stress = curve["extension"] / 0.05, curve["force"] / AREA
    work = np.trapezoid(stress[:-2], strain[:-2])
    assert value(found, "energy_to_break") == pytest.approx(work / 1e6, rel=1e-9)
    left = value(found, "strain_at_strength") - value(found, "uniform_elongation")
    assert left == pytest.approx(value(found, "strength") / value(found, "modulus") / 10, rel=1e-9)
    assert value(found, "upper_yield") is None and found.reading("upper_yield").verdict == "none"


@pytest.mark.parametrize("window", [None, {"from": "20 MPa", "to": "150 MPa"}, {"from": "0.02 %", "to": "0.08 %"}])
def test_truth_lies_inside_the_doubt(window: Any) -> None:
    inside, ratios = 0, []
    for seed in range(20):
        found = pulled(bar(seed), **({} if window is None else {"modulus": window}))
        for key, truth in (("modulus", 200.0), ("proof_0.2", 350.0)):
            off = abs(value(found, key) - truth)
            assert off < (0.01 if key == "modulus" else 0.003) * truth
            inside += off <= doubt(found, key)
            ratios.append(off / doubt(found, key))
    assert inside >= 36 and 0.1 < np.sqrt(np.mean(np.square(ratios))) < 0.75


def test_toe_and_machine_are_taken_out() -> None:
    found = pulled(bar(toe=3e-4), toe="on")
    assert value(found, "modulus") == pytest.approx(200, rel=5e-3)
    assert value(found, "strain_at_break") == pytest.approx(5.001, abs=2e-3)
    assert value(pulled(bar(toe=3e-4)), "strain_at_break") == pytest.approx(5.031, abs=1e-4)
    compliance = 0.06 / (E * AREA) / 3  # a third of the specimen's
    found = pulled(bar(compliance=compliance), ("displacement",), compliance=compliance)
    assert value(found, "modulus") == pytest.approx(200, rel=1e-3)
    without = pulled(bar(compliance=compliance), ("displacement",))
    assert value(without, "modulus") == pytest.approx(150, rel=1e-2)


def test_an_extensometer_that_is_taken_off_leaves_no_jump() -> None:
    made = bar()
    off = int(np.argmax(made["extension"] / 0.05 >= 0.02))
    made["extension"][off + 5 :] = 0.0  # it hangs loose
    found = pulled(made, ("extension", "displacement"), extensometer_off="2 %")
    assert value(found, "strain_at_break") == pytest.approx(5.001, abs=1e-6)
    _, y = arrays(found.curve("stress"))
    x, _ = arrays(found.curve("stress"))
    assert np.all(np.diff(x) > 0) and y.max() == pytest.approx(value(found, "strength"), rel=1e-4)
    with pytest.raises(BadInput, match="displacement"):
        pulled(bar(), ("extension",), extensometer_off="2 %")


def yielding(first: float = 260e6, plateau: float = 275e6, ripple: float = 3e6) -> tuple[np.ndarray, np.ndarray]:
    """Upper yield at 300 MPa, a deep first trough, a plateau with ripples, hardening."""
    strain = np.concatenate([np.linspace(0, 0.0015, 400), np.linspace(0.0015, 0.1, 6000)[1:]])
    t = strain - 0.0015
    stress = np.select(
        [t <= 0, t < 5e-4, t < 1e-3, t < 0.02],
        [E * strain, 300e6 + (first - 300e6) * t / 5e-4, first + (plateau - first) * (t - 5e-4) / 5e-4,
         plateau + ripple * np.sin(2 * np.pi * t / 2e-3)],
        plateau + (t - 0.02) * 2e9,
    )  # fmt: skip
    return strain, stress


def test_yields_leave_the_first_trough_out() -> None:
    strain, stress = yielding()
    channels = {"force": ("N", stress * AREA), "extension": ("mm", strain * 50)}
    found = read("tension", 50.0, channels, specimen=ROUND)
    assert value(found, "upper_yield") == pytest.approx(300, rel=1e-3)
    assert value(found, "lower_yield") == pytest.approx(272, rel=1e-3)
    rng = np.random.default_rng(2)
    channels["force"] = ("N", stress * AREA + rng.normal(0, 3.0, stress.size))
    noisy = read("tension", 50.0, channels, specimen=ROUND)
    assert value(noisy, "upper_yield") == pytest.approx(300, rel=3e-3)
    assert value(noisy, "lower_yield") == pytest.approx(272, rel=3e-3)
    # Where there is one trough alone it counts.
    rising = np.where(strain > 0.0025, 260e6 + (strain - 0.0025) * 3e9, stress)
    alone = read("tension", 50.0, {"force": ("N", rising * AREA), "extension": ("mm", strain * 50)}, specimen=ROUND)
    assert value(alone, "lower_yield") == pytest.approx(260, rel=1e-3)
    # A first maximum that is never exceeded is the strength.
    low = np.minimum(stress, 299e6)
    top = np.argmax(low)
    none = read("tension", 50.0, {"force": ("N", low * AREA), "extension": ("mm", strain * 50)}, specimen=ROUND,
                modulus={"from": "50 MPa", "to": "200 MPa"})  # fmt: skip
    assert top > 0 and value(none, "upper_yield") is None


def test_unloading_is_no_break() -> None:
    up = np.linspace(0, 150e6, 500)
    stress = np.concatenate([up, up[::-1]])
    found = read("tension", 50.0, {"force": ("N", stress * AREA), "extension": ("mm", stress / E * 50)}, specimen=ROUND)
    assert value(found, "strain_at_break") is None and "did not break" in str(found.reading("energy_to_break").reason)
    assert tension.break_at(np.array([0, 1, 2, 3.0, 0.1]), np.array([0, 1, 2, 3.0, 3.1]), 0.5) == 4


def test_compression_counts_positive_whichever_sign_was_recorded() -> None:
    made = bar()
    one = {"force": ("N", -made["force"]), "displacement": ("m", -made["displacement"])}
    two = {"force": ("N", -made["force"]), "displacement": ("m", made["displacement"])}
    for channels in (one, two):
        found = read(
            "tension", 50.0, channels, kind="compression", specimen={"area": f"{AREA} m^2", "parallel_length": 0.06}
        )
        assert value(found, "modulus") == pytest.approx(200, rel=2e-3) and value(found, "strength") > 0


@pytest.mark.parametrize(
    ("settings", "why"),
    [({"specimen": {"gauge_length": 0.05}}, "size is missing"), ({"specimen": {"diameter": 0.01}}, "gauge_length"),
     ({"specimen": {**ROUND, "shape": "tube"}}, "inner_diameter"), ({"modulus": {"from": "1 %", "to": "20 MPa"}}, "two"),
     ({"proof": "0 %"}, "above zero"), ({"zero": {"exten": "1 mm"}}, "no role 'exten'"), ({"break_drop": "120 %"}, "100")],
)  # fmt: skip
def test_what_is_missing_or_wrong_is_said(settings: dict[str, Any], why: str) -> None:
    with pytest.raises(BadInput, match=why):
        pulled(bar(), **settings)


def test_zero_sensitivity_and_stated_doubts_count() -> None:
    made = bar()
    volts = {"force": ("mV", made["force"] / 1e3 * 2.0 + 5.0), "extension": ("mm", made["extension"] * 1e3)}
    found = read("tension", 50.0, volts, specimen=ROUND, sensitivity={"force": "2 mV/kN"}, zero={"force": "2.5 kN"},
                 uncertainty={"force": "0.5 %", "extension": "0.3 %", "area": "0.4 %"},
                 limits={"modulus": {"low": "190 GPa", "high": "210 GPa"}})  # fmt: skip
    assert value(found, "modulus") == pytest.approx(200, rel=1e-3) and found.verdict == "inside"
    assert doubt(found, "modulus") == pytest.approx(200 * np.sqrt(0.5**2 + 0.3**2 + 0.4**2) / 100, rel=0.01)
    assert not any("No uncertainty" in n for n in found.notes)
    with pytest.raises(BadInput, match="states no unit"):
        read("tension", 50.0, {"force": ("", made["force"]), "extension": ("mm", made["extension"])}, specimen=ROUND)


# --- cycles --------------------------------------------------------------------------------------------------


def pulses(
    per_cycle: float, count: int = 40, fall: float = 0.0, lag: float = 0.1
) -> tuple[float, np.ndarray, np.ndarray]:
    """Rate, force [N] and displacement [m]: 1 kN over 1 MN/m that loses `fall` of its stiffness."""
    rate = 10 * per_cycle
    t = np.arange(int(per_cycle * count)) / rate
    k = 1e6 * (1 - fall * t / t[-1])
    force = -1000 - 1000 * np.sin(2 * np.pi * 10 * t + 0.3)
    return rate, force, -1000 * (1 + np.sin(2 * np.pi * 10 * t + 0.3 - lag)) / k


@pytest.mark.parametrize("per_cycle", [13, 64.7, 500])
@pytest.mark.parametrize("way", ["secant", "harmonic"])
def test_stiffness_and_energy_of_every_cycle(per_cycle: float, way: str) -> None:
    rate, force, x = pulses(per_cycle)
    found = read("cyclic", rate, {"force": ("N", force), "displacement": ("mm", 1e3 * x)}, stiffness=way)
    assert value(found, "cycles") in (38, 39)
    assert value(found, "stiffness_initial") == pytest.approx(1e6, rel=5e-3)
    _, energy = arrays(found.curve("energy"))
    assert energy == pytest.approx(np.full(energy.size, np.pi * 1000 * 1e-3 * np.sin(0.1)), rel=0.01)
    _, top = arrays(found.curve("force_max"))
    assert top == pytest.approx(np.full(top.size, 2000.0), rel=5e-3)  # compression counts positive


def test_a_specimen_that_softens_is_spent_at_a_cycle() -> None:
    rate, force, x = pulses(100, 60, 0.4, 0.0)
    found = read("cyclic", rate, {"force": ("N", force), "displacement": ("m", x)}, stop_share="80 %", initial_cycle=3)
    first, n = value(found, "stiffness_initial"), int(value(found, "cycles_to_stop"))
    _, k = arrays(found.curve("stiffness"))
    assert k[n - 1] < 0.8 * first <= k[n - 2] and n > 3
    none = read("cyclic", rate, {"force": ("N", force), "displacement": ("m", x)}, initial_cycle=99)
    assert value(none, "stiffness_initial") is None and "fewer" in str(none.reading("stiffness_initial").reason)


def test_noise_at_the_crossing_makes_no_cycles_and_rest_is_none() -> None:
    rng = np.random.default_rng(4)
    t = np.arange(20000) / 1000
    shape = np.where((t * 2) % 1 < 0.5, 0.5 - 0.5 * np.cos(4 * np.pi * ((t * 2) % 1)), 0.0)  # haversines with rest
    force, x = 500 * shape + rng.normal(0, 5, t.size), 1e-3 * shape + 2e-5 * t
    found = read("cyclic", 1000.0, {"force": ("N", force), "displacement": ("m", x), "lvdt": ("m", x)}, period="0.5 s")
    assert value(found, "cycles") == 39
    assert value(found, "permanent_lvdt") == pytest.approx(2e-5 * 19, rel=0.1)
    still = read("cyclic", 1000.0, {"force": ("N", np.zeros(5000)), "displacement": ("m", np.zeros(5000))})
    assert value(still, "cycles") == 0 and value(still, "stiffness_final") is None
    assert cycles.period_of(np.zeros(100)) is None


@pytest.mark.parametrize("amplitude", [20.0, 100.0, 1000.0])
def test_noise_of_a_force_at_rest_makes_no_cycle_however_small_the_pulses_were(amplitude: float) -> None:
    """The load cell is one for twenty times as much; after the last pulse it stands at rest for half a second."""
    rng, n = np.random.default_rng(5), 128.2
    t = np.arange(6400)
    at_rest = t > 45.1 * n
    pulse = 1 - np.cos(2 * np.pi * t / n)
    way = np.where(at_rest, 0.0, 1e-6 * amplitude * pulse) + 1e-7 * rng.standard_normal(t.size)
    force = np.where(at_rest, 0.0, amplitude * pulse) + 2 * rng.standard_normal(t.size)
    found = read("cyclic", 1000.0, {"force": ("N", force), "displacement": ("m", way)})
    assert value(found, "cycles") in (44, 45)
    assert value(found, "stiffness_final") == pytest.approx(1e6, rel=0.5 if amplitude < 100 else 0.05)
    assert not any("gave way" in note for note in found.notes)


# --- complex modulus -----------------------------------------------------------------------------------------

STRIP = {"kind": "tension", "length": "20 mm", "width": "5 mm", "thickness": "1 mm"}


def oscillated(modulus: Any, tan: Any, f: float, rate: float, n: int, compliance: float = 0.0) -> tuple[Any, Any]:
    k = 1 / (1 / (modulus * (1 + 1j * np.asarray(tan)) * 5e-6 / 0.02) + compliance)
    wave = 5e-6 * np.exp(2j * np.pi * f * np.arange(n) / rate)
    return (k * wave).real, wave.real


@pytest.mark.parametrize("tan", [0.001, 0.05, 2.0])
@pytest.mark.parametrize("modulus", [1e6, 1e8, 1e10])
def test_steps_give_storage_and_loss(tan: float, modulus: float) -> None:
    parts = [oscillated(modulus, tan, f, 500.0, 5000, 2e-8) for f in (1.0, 7.3)]
    force, x = (np.concatenate([p[i] for p in parts]) for i in (0, 1))
    steps = [{"frequency": f, "start": 10.0 * i + 1, "stop": 10.0 * i + 10} for i, f in enumerate((1.0, 7.3))]
    found = read("dma", 500.0, {"force": ("N", -force), "displacement": ("um", 1e6 * x)}, geometry=STRIP, steps=steps,
                 compliance=2e-8)  # fmt: skip
    assert found.curve("storage").x == (1.0, 7.3) and found.curve("storage").x_unit == "Hz"
    assert arrays(found.curve("storage"))[1] == pytest.approx(np.full(2, modulus / 1e6), rel=1e-6)
    assert arrays(found.curve("tan_delta"))[1] == pytest.approx(np.full(2, tan), rel=1e-5, abs=1e-7)


def test_a_ramp_of_temperature_shows_its_transition() -> None:
    n, rate, f = 180_000, 100.0, 1.03
    heat = np.linspace(-20, 120, n)
    log_e = 9 - 2.5 / (1 + np.exp(-(heat - 60) / 4))
    tan = 0.02 + 1.2 * np.exp(-(((heat - 65) / 9) ** 2))
    force, x = oscillated(10**log_e, tan, f, rate, n)
    rng = np.random.default_rng(6)
    channels = {"force": ("N", force + rng.normal(0, 2e-5 * force.max(), n)), "displacement": ("um", 1e6 * x),
                "temperature": ("°C", heat)}  # fmt: skip
    found = read("dma", rate, channels, geometry=STRIP)
    at, storage = arrays(found.curve("storage"))
    assert found.curve("storage").x_unit == "°C"
    assert storage == pytest.approx(10 ** np.interp(at, heat, log_e) / 1e6, rel=0.01)
    phase = np.degrees(np.arctan(arrays(found.curve("tan_delta"))[1]))
    assert np.abs(phase - np.degrees(np.arctan(np.interp(at, heat, tan)))).max() < 0.25
    assert value(found, "tg_tan_peak") == pytest.approx(65.0, abs=0.5)
    loss = 10**log_e * tan
    assert value(found, "tg_loss_peak") == pytest.approx(heat[np.argmax(loss)], abs=0.7)
    slope = np.gradient(log_e, heat)
    i = int(np.argmin(slope))
    low = heat <= -20 + 28
    base = np.polyfit(heat[low], log_e[low], 1)
    met = heat[i] + (np.polyval(base, heat[i]) - log_e[i]) / (slope[i] - base[0])
    assert value(found, "tg_storage_onset") == pytest.approx(met, abs=1.0)
    one = read("dma", rate, {k: (u, v[:20000]) for k, (u, v) in channels.items() if k != "temperature"}, geometry=STRIP)
    assert one.curve("storage").x_unit == "s" and value(one, "tg_tan_peak") is None


@pytest.mark.parametrize(
    ("kind", "factor"),
    [("three_point", 0.02**3 / (4 * 0.005 * 0.001**3)), ("single_cantilever", 0.02**3 / (0.005 * 0.001**3)),
     ("dual_cantilever", 0.02**3 / (2 * 0.005 * 0.001**3)), ("compression", 0.02 / 5e-6)],
)  # fmt: skip
def test_the_way_of_holding_makes_the_modulus(kind: str, factor: float) -> None:
    assert dynamic.modulus_factor(kind, 0.02, 0.005, 0.001, 5e-6) == pytest.approx(factor)
    assert dynamic.modulus_factor("shear", 0, 0, 0.002, 1e-4) == pytest.approx(10.0)


def test_what_a_record_can_not_hold_is_said() -> None:
    force, x = oscillated(1e8, 0.1, 1.0, 100.0, 1000)
    channels = {"force": ("N", force), "displacement": ("m", x)}
    for settings, why in (
        ({"geometry": {"kind": "tension", "length": 0.02}}, "area"),
        ({"geometry": STRIP, "steps": [{"frequency": 1, "start": 0, "stop": 30}]}, "ends at 10"),
        ({"geometry": STRIP, "frequency": 60}, "can't hold"),
    ):
        with pytest.raises(BadInput, match=why):
            read("dma", 100.0, channels, **settings)
    short = read("dma", 100.0, channels, geometry=STRIP, window=20, frequency=1.0)
    assert not short.curves and "shorter" in short.notes[0]
