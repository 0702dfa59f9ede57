"""Reading a random test from its record: averaged spectra of the full-level stretch against the profile."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ...contracts.finding import Curve, Finding, Reading
from ...contracts.limits import Limits
from ...contracts.recording import Channel
from ...core.calibration.uncertainty import mean_square_interval
from ...core.control.points import combined
from ...core.control.randomprofile import RandomProfile
from ...core.signal.framing import PIECE
from ...core.signal.sinefit import Floats
from ...core.signal.spectra import Spectra, averaged, averaged_together, frame_for
from .random_run import spacing
from .settings import ShakerSettings, control_roles, in_units, with_tolerance
from .sine_reading import cut_time

READINGS = {
    "in_tolerance": "%", "rms": "m/s²", "rms_error": "%", "error_max": "dB", "kurtosis": "", "crest": "",
    "displacement_three_sigma_peak_to_peak": "m", "degrees_of_freedom": "", "line_spacing": "Hz",
    "drive_rms": "V",
}  # fmt: skip


@dataclass(frozen=True)
class Part:
    """A stretch of a record at one level [dB re the profile]."""

    start: float
    stop: float
    level: float


def parts_of(marks: Sequence[Mapping[str, Any]], settings: ShakerSettings, duration: float) -> list[Part]:
    """Stretches at full level: as the marks tell, or the stretch that the settings name. Rungs of a ladder count
    only where there is nothing else."""
    held = [m for m in marks if m.get("kind") in ("random", "random-end")]
    duration = cut_time(marks, duration)
    made: list[Part] = []
    rungs: list[Part] = []
    for i, m in enumerate(held):
        if m["kind"] != "random":
            continue
        stop = float(held[i + 1]["t"]) if i + 1 < len(held) else duration
        (rungs if m.get("rung") else made).append(Part(float(m["t"]), stop, float(m["level"])))
    if held:
        return made or rungs
    return [Part(settings.start or 0.0, duration if settings.stop is None else settings.stop, 0.0)]


def _pieces(record: Mapping[str, Channel], roles: list[str], start: int, stop: int) -> Iterator[Floats]:
    for a in range(start, stop, PIECE):
        yield np.array([record[r].samples(a, min(a + PIECE, stop)) for r in roles])


SAME_LEVEL = 0.05
"""dB within which stretches are at one level"""


def longest_level(parts: Sequence[Part], shortest: float = 0.0) -> list[Part]:
    """The stretches, of at least `shortest` s each, at the level at which most time was spent: a run that was held,
    stepped, or gone on with after a cut has several."""
    whole = [p for p in parts if p.stop - p.start >= shortest]

    def alike(level: float) -> list[Part]:
        return [p for p in whole if abs(p.level - level) <= SAME_LEVEL]

    return max((alike(p.level) for p in whole), key=lambda group: sum(p.stop - p.start for p in group), default=[])


def spectra_of(record: Mapping[str, Channel], roles: list[str], parts: Sequence[Part], frame: int) -> Spectra:
    """Spectra averaged over stretches, half overlapping Hann frames; none reaches over a joint."""
    rate = record[roles[0]].rate
    return averaged_together([
        averaged(_pieces(record, roles, int(round(p.start * rate)), int(round(p.stop * rate))), len(roles), rate, frame)
        for p in parts
    ])  # fmt: skip


def moments(record: Mapping[str, Channel], role: str, parts: Sequence[Part]) -> tuple[float, float]:
    """Kurtosis and crest factor of a channel over stretches."""
    rate = record[role].rate
    n = s = q = p = top = 0.0
    spans = [(int(round(one.start * rate)), int(round(one.stop * rate))) for one in parts]
    for piece in (piece for a, b in spans for piece in _pieces(record, [role], a, b)):
        x = piece[0]
        n, s = n + x.size, s + float(x.sum())
        y = x * x
        q, p, top = q + float(y.sum()), p + float(y @ y), max(top, float(np.abs(x).max(initial=0.0)))
    if q <= 0:
        return float("nan"), float("nan")
    return p / n / (q / n) ** 2, top / (q / n) ** 0.5


def evaluate(given: Mapping[str, Channel], settings: ShakerSettings, marks: Sequence[Mapping[str, Any]]) -> Finding:
    """Spectra against the profile. Raises BadInput for settings that can't be."""
    held, standard = with_tolerance(settings.random())
    profile: RandomProfile = held.solved()
    limits = Limits(settings.limits, READINGS, settings.decision)
    record = in_units(given, settings)
    rest = [r for r in record if r != "drive" and record[r].rate == record["control"].rate]
    controls = control_roles(rest, settings.control)
    others = [r for r in rest if r not in controls and record[r].unit == "m/s²"]
    roles = controls + others + (["drive"] if "drive" in record else [])
    channel = record["control"]
    parts = parts_of(marks, settings, channel.duration)
    notes = ["No tolerance is stated: ±3 dB is taken, as IEC 60068-2-64 has it."] if standard else []
    frame = frame_for(channel.rate, spacing(settings, profile))
    level = longest_level(parts, frame / channel.rate)
    if not level:
        longest = max((p.stop - p.start for p in parts), default=0.0)
        why = f"the stretch of {longest:.3g} s is shorter than one frame of {frame / channel.rate:.3g} s"
        nothing = [Reading(k, k.replace("_", " "), None, u, valid=False, reason=why) for k, u in READINGS.items()]
        made_of_nothing = Finding("random-vibration", tuple(limits.judge(r) for r in nothing), (), (), tuple(notes))
        return made_of_nothing.lacking(_missing(settings, marks, channel.duration))
    made = spectra_of(record, roles, level, frame)
    control = combined(made.auto[: len(controls)], settings.control.combine)
    seen = _seen(profile, made, control, level)
    finding = _finding(seen, settings, limits, notes, record, roles, controls, others)
    finding = finding.lacking(_missing(settings, marks, channel.duration))
    from .chain import judged_again

    return judged_again(finding, record, marks, controls, False, tuple(settings.control.limits))


def _missing(settings: ShakerSettings, marks: Sequence[Mapping[str, Any]], duration: float) -> list[str]:
    """Stretches of the course that the record does not hold to their end."""
    from .random_run import stretches

    held = [m for m in marks if m.get("kind") in ("random", "random-end")]
    if not held and not settings.course:
        return []
    end = cut_time(marks, duration)
    made = []
    for i, planned in enumerate(stretches(settings)):
        if planned.rests:
            continue
        played = sum(
            (float(held[k + 1]["t"]) if k + 1 < len(held) else end) - float(m["t"])
            for k, m in enumerate(held)
            if m["kind"] == "random" and int(m.get("item", 0)) == i
        )
        if not held:
            played = duration if settings.stop is None else settings.stop - (settings.start or 0.0)
        if played < planned.duration - max(0.3, 0.01 * planned.duration):
            text = "not begun" if played <= 0 else f"{played:.1f} of {planned.duration:.1f} s"
            made.append(f"{planned.label}: {text}")
    return made


@dataclass(frozen=True)
class Seen:
    """The control's spectrum in the profile's band, beside what it should be."""

    made: Spectra
    parts: list[Part]
    inside: np.ndarray
    f: Floats
    s: Floats
    target: Floats
    low: Floats
    high: Floats
    wanted: float
    """m/s² rms of the profile at this level"""

    @property
    def spacing(self) -> float:
        return float(self.made.frequency[1])


def _seen(profile: RandomProfile, made: Spectra, control: Floats, parts: list[Part]) -> Seen:
    inside = (made.frequency >= profile.start * (1 - 1e-9)) & (made.frequency <= profile.stop * (1 + 1e-9))
    f = made.frequency[inside]
    by = 10 ** (parts[0].level / 10)
    low, high = (v * by for v in profile.edges(f, "tolerances"))
    return Seen(
        made, parts, inside, f, control[inside], profile.density(f) * by, low, high, profile.rms() * by**0.5
    )  # fmt: skip


def _finding(
    seen: Seen, settings: ShakerSettings, limits: Limits, notes: list[str], record: Mapping[str, Channel],
    roles: list[str], controls: list[str], others: list[str],
) -> Finding:  # fmt: skip
    made, parts, f, s, low, high, df = seen.made, seen.parts, seen.f, seen.s, seen.low, seen.high, seen.spacing
    own = settings.uncertainty.get("control")
    least, greatest = mean_square_interval(made.dof)
    below, above = (float(np.hypot(v, 2 * (own or 0.0) / 100)) for v in (1 - least, greatest - 1))
    below = min(below, 1.0)
    if own is None:
        notes.append("The control sensor's own uncertainty is not stated: the doubt is that of the average alone.")
    rms = float(np.sqrt(np.sum(s) * df))
    wanted = seen.wanted
    # Relative doubt of the mean square over all lines: 2/sqrt(dof·lines), k = 2, halved for the rms.
    u_rms = rms * float(np.hypot(np.sqrt(2 / max(made.dof * f.size, 1.0)), (own or 0.0) / 100))
    error = 10 * np.log10(np.maximum(s, 1e-300) / seen.target)
    worst = int(np.argmax(np.abs(error)))
    sure = 100 * float(np.mean((s * (1 - below) >= low) & (s * (1 + above) <= high)))
    may = 100 * float(np.mean((s * (1 + above) >= low) & (s * (1 - below) <= high)))
    sigma = float(np.sqrt(np.sum(s / (2 * np.pi * f) ** 4) * df))
    kurtosis, crest = moments(record, controls[0], parts)
    still = None if np.isfinite(kurtosis) else "the control stands still"
    readings = [
        Reading("in_tolerance", "Lines within tolerance", 100 * float(np.mean((s >= low) & (s <= high))), "%",
                interval=(sure, may)),
        Reading("rms", f"Control, rms, {f[0]:.4g} to {f[-1]:.4g} Hz", rms, "m/s²", u_rms, 2.0),
        Reading("rms_error", "rms against the profile's", 100 * (rms / wanted - 1), "%", 100 * u_rms / wanted, 2.0),
        Reading("error_max", f"Largest error of a line (at {f[worst]:.4g} Hz)", float(error[worst]), "dB",
                float(10 * np.log10(1 + above)), 2.0),
        Reading("kurtosis", "Kurtosis of the control (3 = Gaussian)", kurtosis, "", valid=still is None,
                reason=still),
        Reading("crest", "Crest factor of the control", crest, "", valid=still is None, reason=still),
        Reading("displacement_three_sigma_peak_to_peak", "Displacement, three sigma, peak to peak", 6 * sigma, "m"),
        Reading("degrees_of_freedom", "Degrees of freedom, overlap counted", made.dof, ""),
        Reading("line_spacing", "Line spacing", float(df), "Hz"),
    ]  # fmt: skip
    x = tuple(map(float, f))
    curves = [
        Curve("control", "Control, density", x, tuple(map(float, s)), "Hz", "(m/s²)²/Hz",
              uncertainty=tuple(map(float, above * s)), coverage=2.0,
              low=tuple(float(v) if v > 0 else None for v in low),
              high=tuple(float(v) if np.isfinite(v) else None for v in high)),
        Curve("target", "Profile", x, tuple(map(float, seen.target)), "Hz", "(m/s²)²/Hz"),
    ]  # fmt: skip
    if "drive" in roles:
        d = made.auto[roles.index("drive")][seen.inside]
        unit = record["drive"].unit
        curves.append(Curve("drive", "Drive, density", x, tuple(map(float, d)), "Hz", f"{unit}²/Hz"))
        if unit == "V":
            readings.append(Reading("drive_rms", "Drive, rms", float(np.sqrt(np.sum(d) * df)), unit))
    for role in others:
        r = made.auto[roles.index(role)][seen.inside]
        curves.append(Curve(f"response_{role}", f"{role}, density", x, tuple(map(float, r)), "Hz", "(m/s²)²/Hz"))
    notes.append(
        f"{f.size} lines {df:.4g} Hz apart from {made.frames} half overlapping frames,"
        f" {' and '.join(f'{p.start:.1f} s to {p.stop:.1f} s' for p in parts)}: {made.dof:.0f} degrees of freedom."
    )
    if parts[0].level:
        notes.append(f"The stretch is at {parts[0].level:+.1f} dB: the profile is taken at that level.")
    return Finding("random-vibration", tuple(limits.judge(r) for r in readings), tuple(curves), (), tuple(notes))
