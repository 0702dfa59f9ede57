"""Reading a sine test from its record: levels without lag against the profile, dwells, drift."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ...contracts.finding import Curve, Finding, Reading
from ...contracts.limits import Limits
from ...contracts.recording import Channel
from ...core.control.points import combined
from ...core.control.sineprofile import SineProfile
from ...core.signal.sinefit import Complexes, Floats
from ...core.signal.tracking import PERIODS, Track, find_track, tracked
from .settings import ShakerSettings, control_roles, in_units, with_tolerance

PER_OCTAVE = 48
"""Lines of the control curve; on the logarithmic grid that begins at the profile's start."""
CHAIN_SEEN = 0.6
"""s before the guard of the chain acts, at most, at which its change began"""
READINGS = {
    "in_tolerance": "%", "error_max": "dB", "error_rms": "dB", "drive_peak": "V", "level_max": "m/s²",
}  # fmt: skip


@dataclass(frozen=True)
class Stretch:
    """A stretch of a record in which the frequency goes in a known way."""

    start: float
    stop: float
    law: str
    """log, linear, constant or found"""
    frequency: float
    rate: float
    phase0: float
    level: float
    item: int
    mark: Mapping[str, Any]
    track: Track | None = None

    def frequency_at(self, t: Floats) -> Floats:
        u = np.asarray(t) - self.start
        if self.track is not None:
            return self.track(np.asarray(t))
        if self.law == "log":
            return self.frequency * np.exp(self.rate * u)
        return self.frequency + (self.rate * u if self.law == "linear" else 0 * u)

    def phase(self, t: Floats) -> Floats:
        """rad; the frequency goes on beyond the stretch's ends."""
        u = np.asarray(t) - self.start
        if self.track is not None:
            return self.track.phase(np.asarray(t))
        if self.law == "log":
            return np.asarray(self.phase0 + 2 * np.pi * self.frequency * np.expm1(self.rate * u) / self.rate)
        k = self.rate if self.law == "linear" else 0.0
        return np.asarray(self.phase0 + 2 * np.pi * (self.frequency * u + k * u * u / 2))

    def time_at(self, f: Floats) -> Floats:
        if self.track is not None:
            order = np.argsort(self.track.frequency)
            return np.interp(f, self.track.frequency[order], self.track.t[order])
        if self.law == "log":
            return self.start + np.log(f / self.frequency) / self.rate
        return self.start + (f - self.frequency) / self.rate


def cut_time(marks: Sequence[Mapping[str, Any]], end: float) -> float:
    """s at which the drive was taken down by a guard or the operator; else the record's end. Where the chain was found
    changed, what was read while it was being found does not count either."""
    found = [
        float(m["t"]) - (CHAIN_SEEN if m.get("guard") == "chain" else 0.0)
        for m in marks
        if m.get("kind") == "trip" and m.get("action") in ("cut", "ease")
    ]
    return max(min([*found, end]), 0.0)


def stretches_of(marks: Sequence[Mapping[str, Any]], end: float) -> list[Stretch]:
    """Stretches as a take's marks tell them; nothing after a cut."""
    end = cut_time(marks, end)
    held = [m for m in marks if m.get("kind") == "sine"]
    made = []
    for i, m in enumerate(held):
        if m["law"] == "end":
            continue
        stop = float(held[i + 1]["t"]) if i + 1 < len(held) else end
        if stop > float(m["t"]) + 1e-6:
            made.append(Stretch(float(m["t"]), stop, m["law"], float(m["frequency"]), float(m["rate"]),
                                float(m["phase"]), float(m["level"]), int(m["item"]), m))  # fmt: skip
    return made


def found_stretches(record: Mapping[str, Channel], settings: ShakerSettings, profile: SineProfile) -> list[Stretch]:
    """Stretches of a record without marks: the strongest sine's track, parted where it turns round."""
    channel = record.get("drive", record["control"])
    a = 0.0 if settings.start is None else settings.start
    b = channel.duration if settings.stop is None else settings.stop
    x = channel.between(a, b)
    if x.size < 64 or float(np.std(x)) == 0.0:
        return []
    track = find_track(x - x.mean(), channel.rate, profile.start, profile.stop)
    if track is None:
        return []
    track = Track(track.t + a, track.frequency)
    on, off = _on_and_off(x - x.mean(), channel.rate, profile.start)
    on, off = on + a, off + a
    y = np.log(track.frequency)
    step = np.sign(np.diff(y)) * (np.abs(np.diff(y)) > 1e-6)
    made: list[Stretch] = []
    i = 0
    while i < step.size:
        j = i
        while j + 1 < step.size and (step[j + 1] == step[i] or step[j + 1] == 0):
            j += 1
        law = _law(track, i, j + 1, on, off) if abs(y[j + 1] - y[i]) > 0.1 else None
        if law is not None:
            made.append(dataclasses.replace(law, item=len(made)))
        elif abs(y[j + 1] - y[i]) > 0.02 or step[i] == 0:
            made.append(Stretch(float(track.t[i]), min(float(track.t[j + 1]), b), "found", float(track.frequency[i]),
                                float(step[i]), 0.0, 0.0, len(made), {}, track))  # fmt: skip
        i = j + 1
    return made


def _on_and_off(x: Floats, rate: float, lowest: float) -> tuple[float, float]:
    """s between which the record holds more than a tenth of its usual level."""
    n = max(int(2 * rate / lowest), 8)
    rows = x[: x.size // n * n].reshape(-1, n)
    level = np.sqrt(np.mean(rows**2, axis=1))
    loud = np.flatnonzero(level > 0.1 * np.median(level[level > 0.05 * level.max()]))
    first, last = int(loud[0]), int(loud[-1])
    # The first and the last piece are looked at more closely, since they may be part silence.
    fine = np.abs(x[first * n : (first + 1) * n]) > 0.1 * level[min(first + 1, level.size - 1)]
    begin = first * n + (int(np.argmax(fine)) if fine.any() else 0)
    tail = np.abs(x[last * n : (last + 1) * n]) > 0.1 * level[max(last - 1, 0)]
    end = last * n + (n - int(np.argmax(tail[::-1])) if tail.any() else n)
    return begin / rate, end / rate


def _law(track: Track, i: int, j: int, on: float, off: float) -> Stretch | None:
    """A stretch of a track as a logarithmic or linear sweep, where one of the two fits within a few thousandths."""
    t, f = track.t[i : j + 1], track.frequency[i : j + 1]
    inner = (t > on + 0.5) & (t < off - 0.5)
    if inner.sum() < 5:
        return None
    t, f = t[inner], f[inner]
    best: tuple[float, Stretch] | None = None
    for law, y in (("log", np.log(f)), ("linear", f)):
        rate, level = np.polyfit(t - on, y, 1)
        fitted = np.polyval((rate, level), t - on)
        off_by = (y - fitted) if law == "log" else (y - fitted) / f
        error = float(np.sqrt(np.mean(off_by**2)))
        frequency = float(np.exp(level) if law == "log" else level)
        if error < 0.005 and frequency > 0 and (best is None or error < best[0]):
            best = (error, Stretch(on, off, law, frequency, float(rate), 0.0, 0.0, 0, {"edges": True}))
    return None if best is None else best[1]


def _load(record: Mapping[str, Channel], roles: list[str]) -> Any:
    return lambda a, b: np.array([record[r].samples(a, b) for r in roles])


def _lines(stretch: Stretch, profile: SineProfile) -> tuple[Floats, Floats]:
    """Frequencies on the grid that a sweep passes, rising, and when."""
    ends = np.sort(stretch.frequency_at(np.array([stretch.start, stretch.stop])))
    if stretch.track is not None:
        inside = (stretch.track.t >= stretch.start - 1e-9) & (stretch.track.t <= stretch.stop + 1e-9)
        ends = np.array([stretch.track.frequency[inside].min(), stretch.track.frequency[inside].max()])
    low, high = max(ends[0], profile.start), min(ends[1], profile.stop)
    if high <= low:
        return np.zeros(0), np.zeros(0)
    k0 = math.ceil(PER_OCTAVE * math.log2(low / profile.start) - 1e-6)
    k1 = math.floor(PER_OCTAVE * math.log2(high / profile.start) + 1e-6)
    f = profile.start * 2.0 ** (np.arange(k0, k1 + 1) / PER_OCTAVE)
    f = np.clip(f, low, high)
    if stretch.track is not None:
        mine = (stretch.track.t >= stretch.start - 1e-9) & (stretch.track.t <= stretch.stop + 1e-9)
        g, t = stretch.track.frequency[mine], stretch.track.t[mine]
        order = np.argsort(g)
        return f, np.interp(f, g[order], t[order])
    return f, stretch.time_at(f)


@dataclass(frozen=True)
class SweepRead:
    """One sweep as read."""

    stretch: Stretch
    frequency: Floats
    phasors: Complexes
    """(roles, lines), peak in each role's unit"""
    control: Floats
    target: Floats
    low: Floats
    high: Floats

    @property
    def error(self) -> Floats:
        """dB"""
        with np.errstate(divide="ignore"):
            return np.asarray(20 * np.log10(np.maximum(self.control, 1e-12) / self.target))


def read_sweep(record: Mapping[str, Channel], roles: list[str], controls: list[str], stretch: Stretch,
               profile: SineProfile, how: str, end: float) -> SweepRead | None:  # fmt: skip
    """None where no line's window lies before `end` [s]."""
    f, t = _lines(stretch, profile)
    whole = t + PERIODS / f / 2 <= end + 0.5 / f
    if stretch.mark.get("edges"):  # beyond its ends there is silence, not the sweep's own start-up
        whole &= (t - PERIODS / f / 2 >= stretch.start - 0.5 / f) & (t + PERIODS / f / 2 <= stretch.stop + 0.5 / f)
    f, t = f[whole], t[whole]
    if f.size == 0:
        return None
    first = record[roles[0]]
    # Before its begin the sine stands at the first frequency; after its end it is taken down, which is no level of it.
    until = stretch.stop if "law" in stretch.mark else np.inf
    p = tracked(_load(record, roles), first.length, first.rate, stretch.phase, f, t, until=until)
    control = combined(np.abs(p[: len(controls)]), how)
    by = 10 ** (stretch.level / 20)
    target = profile.acceleration(f) * by
    low, high = profile.edges(f, "tolerance")
    return SweepRead(stretch, f, p, control, target, low * by, high * by)


def _add(sweeps: list[SweepRead], more: SweepRead) -> None:
    """Put a piece to the sweep that it goes on with: one that was held, stepped in level, or gone on from where it was
    cut is one sweep. Where both pieces show a line the later one counts."""
    last = sweeps[-1] if sweeps else None
    same = last is not None and "law" in more.stretch.mark and last.stretch.mark.get("law") == more.stretch.law
    if last is None or not same or last.stretch.item != more.stretch.item:
        sweeps.append(more)
        return
    kept = ~np.isin(np.round(np.log2(last.frequency), 6), np.round(np.log2(more.frequency), 6))
    order = np.argsort(np.concatenate([last.frequency[kept], more.frequency]))

    def put(name: str) -> Any:
        return np.concatenate([getattr(last, name)[..., kept], getattr(more, name)], axis=-1)[..., order]

    fields = ("frequency", "phasors", "control", "target", "low", "high")
    sweeps[-1] = SweepRead(more.stretch, *(put(name) for name in fields))


def evaluate(given: Mapping[str, Channel], settings: ShakerSettings, marks: Sequence[Mapping[str, Any]]) -> Finding:
    """Levels of every sweep and dwell against the profile. Raises BadInput for settings that can't be."""
    held, standard = with_tolerance(settings.sine())
    profile = held.solved()
    dwells = [s for s in settings.course if s.kind() in ("dwell", "follow")]
    limits = Limits(settings.limits, {**READINGS, **_dwell_units(len(settings.course) + 8)}, settings.decision)
    record = in_units(given, settings)
    rest = [r for r in record if r != "drive" and record[r].rate == record["control"].rate]
    controls = control_roles(rest, settings.control)
    others = [r for r in rest if r not in controls]
    roles = controls + others + (["drive"] if "drive" in record else [])
    end = record["control"].duration
    told = any(m.get("kind") == "sine" for m in marks)
    stretches = stretches_of(marks, end) if told else found_stretches(record, settings, profile)
    notes: list[str] = []
    if standard:
        notes.append("No tolerance is stated: ±15 % is taken, as IEC 60068-2-6 has it for the reference point.")
    if not told:
        notes.append("The frequency was found from the record itself.")
    sweeps: list[SweepRead] = []
    for s in stretches:
        if (
            s.law in ("log", "linear")
            and not {"dwell", "seeking"} & set(s.mark)
            and not _follows(s, stretches)
            or s.law == "found"
            and s.rate
        ):
            made = read_sweep(record, roles, controls, s, profile, settings.control.combine,
                               cut_time(marks, np.inf))  # fmt: skip
            if made is not None and made.frequency.size:
                _add(sweeps, made)
    doubt = settings.uncertainty.get("control")
    readings = _sweep_readings(sweeps, doubt, record, roles, notes)
    curves = _curves(sweeps, controls, others, roles, record, doubt)
    more, dwell_curves = _dwells(record, roles, controls, stretches, profile, settings)
    if dwells and not more:
        notes.append("The course has a dwell, but the record has none.")
    judged = tuple(limits.judge(r) for r in readings + more)
    missing = missing_stretches(settings, stretches) if told else _asked_more(settings, sweeps, more)
    finding = Finding("sine-sweep", judged, tuple(curves + dwell_curves), (), tuple(notes), (), None, tuple(missing))
    from .chain import judged_again

    return judged_again(finding, record, marks, controls, True, tuple(settings.control.limits))


def missing_stretches(settings: ShakerSettings, stretches: Sequence[Stretch]) -> list[str]:
    """Stretches of the course that a take does not hold to their end."""
    from .course import sine_stretches

    made = []
    for i, planned in enumerate(sine_stretches(settings)):
        if planned.rests:
            continue
        played = sum(s.stop - s.start for s in stretches if s.item == i and "seeking" not in s.mark)
        if played < planned.duration - max(0.3, 0.01 * planned.duration):
            made.append(
                f"{planned.label}: not begun" if played == 0
                else f"{planned.label}: {played:.0f} of {planned.duration:.0f} s"
            )  # fmt: skip
    return made


def _asked_more(settings: ShakerSettings, sweeps: Sequence[SweepRead], dwells: Sequence[Reading]) -> list[str]:
    """What settings with a course ask for beyond what a foreign record holds."""
    if not settings.course:
        return []
    from .course import sine_stretches

    made = []
    planned = sine_stretches(settings)
    swept = sum(1 for s in planned if s.kind == "sweep")
    if len(sweeps) < swept:
        made.append(f"{swept} sweeps are asked for, the record holds {len(sweeps)}")
    dwelt = sum(1 for s in planned if s.kind in ("dwell", "follow"))
    there = sum(1 for r in dwells if r.key.endswith("_duration"))
    if there < dwelt:
        made.append(f"{dwelt} dwells are asked for, the record holds {there}")
    return made


def _follows(s: Stretch, stretches: list[Stretch]) -> bool:
    """Whether a stretch belongs to a dwell that follows a resonance."""
    return any(x.item == s.item and x.mark.get("follow") for x in stretches)


def _dwell_units(count: int) -> dict[str, str]:
    made: dict[str, str] = {}
    for k in range(1, count):
        made |= {
            f"dwell_{k}_frequency": "Hz", f"dwell_{k}_drift": "%", f"dwell_{k}_cycles": "", f"dwell_{k}_error": "dB",
            f"dwell_{k}_phase_error": "°", f"dwell_{k}_duration": "s",
        }  # fmt: skip
    return made


def _share(control: Floats, low: Floats, high: Floats, by: float, sure: bool) -> float:
    """% of lines inside when each may be off by the factor `by`; `sure`: only those that are inside all the same."""
    up, down = control * (1 + by), control * (1 - by)
    inside = (down >= low) & (up <= high) if sure else (up >= low) & (down <= high)
    return 100 * float(np.mean(inside))


def _sweep_readings(sweeps: list[SweepRead], doubt: float | None, record: Mapping[str, Channel], roles: list[str],
                    notes: list[str]) -> list[Reading]:  # fmt: skip
    if not sweeps:
        why = "there is no sweep in the record"
        return [
            Reading("in_tolerance", "Lines within tolerance", None, "%", valid=False, reason=why),
            Reading("error_max", "Largest error of level", None, "dB", valid=False, reason=why),
            Reading("error_rms", "Error of level, rms", None, "dB", valid=False, reason=why),
        ]
    control, low, high = (np.concatenate([getattr(s, k) for s in sweeps]) for k in ("control", "low", "high"))
    error, f = np.concatenate([s.error for s in sweeps]), np.concatenate([s.frequency for s in sweeps])
    good = np.isfinite(control)
    control, low, high, error, f = control[good], low[good], high[good], error[good], f[good]
    interval = None
    if doubt is not None:
        interval = (_share(control, low, high, doubt / 100, True), _share(control, low, high, doubt / 100, False))
    else:
        notes.append("The control sensor's own uncertainty is not stated, so the doubt of the level is not known.")
    worst = int(np.argmax(np.abs(error)))
    covered = ", ".join(f"{s.frequency[0]:.4g} to {s.frequency[-1]:.4g} Hz" for s in sweeps)
    notes.append(f"{good.sum()} lines, {PER_OCTAVE} an octave, over {len(sweeps)} sweep(s): {covered}.")
    u = None if doubt is None else float(20 * np.log10(1 + doubt / 100))
    made = [
        Reading("in_tolerance", "Lines within tolerance", _share(control, low, high, 0.0, True), "%",
                interval=interval),
        Reading("error_max", f"Largest error of level (at {f[worst]:.4g} Hz)", float(error[worst]), "dB", u,
                2.0 if u else None),
        Reading("error_rms", "Error of level, rms", float(np.sqrt(np.mean(error**2))), "dB"),
        Reading("level_max", "Highest control level, peak", float(control.max()), "m/s²"),
    ]  # fmt: skip
    if "drive" in roles:
        drive = np.concatenate([np.abs(s.phasors[roles.index("drive")]) for s in sweeps])
        made.append(Reading("drive_peak", "Highest drive, peak", float(np.nanmax(drive)), record["drive"].unit))
    return made


def _curves(sweeps: list[SweepRead], controls: list[str], others: list[str], roles: list[str],
            record: Mapping[str, Channel], doubt: float | None) -> list[Curve]:  # fmt: skip
    made: list[Curve] = []
    for k, s in enumerate(reversed(sweeps)):
        suffix = "" if k == 0 else f"_{len(sweeps) - k}"
        x = tuple(map(float, s.frequency))
        number = f", sweep {len(sweeps) - k}" if len(sweeps) > 1 else ""
        u = None if doubt is None else tuple(float(v * doubt / 100) for v in s.control)
        made.append(Curve(
            f"control{suffix}", f"Control level, peak{number}", x, tuple(map(float, s.control)), "Hz", "m/s²",
            uncertainty=u, coverage=2.0 if u else None,
            low=tuple(float(v) if v > 0 else None for v in s.low),
            high=tuple(float(v) if np.isfinite(v) else None for v in s.high),
        ))  # fmt: skip
        if k:
            continue
        made.append(Curve("target", "Profile", x, tuple(map(float, s.target)), "Hz", "m/s²"))
        if "drive" in roles:
            i = roles.index("drive")
            made.append(
                Curve("drive", "Drive, peak", x, tuple(map(float, np.abs(s.phasors[i]))), "Hz", record["drive"].unit)
            )
        for role in others:
            i = roles.index(role)
            made.append(Curve(f"response_{role}", f"{role}, peak", x, tuple(map(float, np.abs(s.phasors[i]))), "Hz",
                              record[role].unit))  # fmt: skip
            turn = np.degrees(np.angle(s.phasors[i] * np.conj(s.phasors[0])))
            made.append(Curve(f"phase_{role}", f"{role}, phase re control", x, tuple(map(float, turn)), "Hz", "°"))
    return made


def _dwells(record: Mapping[str, Channel], roles: list[str], controls: list[str], stretches: list[Stretch],
            profile: SineProfile, settings: ShakerSettings) -> tuple[list[Reading], list[Curve]]:  # fmt: skip
    """Each dwell: cycles, level, and for one that follows a resonance its drift and how well its phase was held."""
    readings: list[Reading] = []
    curves: list[Curve] = []
    items = sorted({s.item for s in stretches if "dwell" in s.mark})
    items += [s.item for s in stretches if s.law == "found" and not s.rate]
    for k, item in enumerate(items, 1):
        parts = [s for s in stretches if s.item == item and "seeking" not in s.mark]
        # A run that was gone on with dwells in two pieces or more, with a probe run between them.
        breaks = [i for i in range(1, len(parts)) if parts[i].start - parts[i - 1].stop > 0.01]
        pieces = [(parts[a].start, parts[b - 1].stop) for a, b in zip([0, *breaks], [*breaks, len(parts)], strict=True)]
        cycles = sum(float(s.phase(np.array(s.stop)) - s.phase(np.array(s.start))) for s in parts) / (2 * np.pi)
        t = np.concatenate([np.arange(a, b, 1.0)[1:] for a, b in pieces])
        starts = np.array([s.start for s in parts])
        which = np.clip(np.searchsorted(starts, t, side="right") - 1, 0, len(parts) - 1)
        f = np.array([float(parts[i].frequency_at(np.array(v))) for i, v in zip(which, t, strict=True)])
        # A window that reaches beyond the end would read the drive's being taken down.
        whole = np.any([(t > a) & (t + PERIODS / f / 2 <= b) for a, b in pieces], axis=0)
        t, which, f = t[whole], which[whole], f[whole]
        at = f"dwell_{k}"
        readings.append(Reading(f"{at}_duration", f"Dwell {k}, duration", sum(b - a for a, b in pieces), "s"))
        readings.append(Reading(f"{at}_cycles", f"Dwell {k}, cycles", cycles, ""))
        if t.size < 2:
            continue
        # Half a period either way is enough to change from piece to piece: each line is read with its own piece.
        first = record[roles[0]]
        phase = _joined(parts)
        p = tracked(_load(record, roles), first.length, first.rate, phase, f, t)
        control = combined(np.abs(p[: len(controls)]), settings.control.combine)
        target = profile.acceleration(f) * 10 ** (np.array([parts[i].level for i in which]) / 20)
        error = 20 * np.log10(np.maximum(control, 1e-12) / target)
        if not np.isfinite(error).any():
            continue
        worst = float(error[np.nanargmax(np.abs(error))])
        readings.append(Reading(f"{at}_frequency", f"Dwell {k}, frequency at its end", float(f[-1]), "Hz"))
        readings.append(Reading(f"{at}_error", f"Dwell {k}, largest error of level", worst, "dB"))
        curves.append(
            Curve(f"{at}_frequency", f"Dwell {k}, frequency", tuple(map(float, t)), tuple(map(float, f)), "s", "Hz")
        )
        curves.append(
            Curve(
                f"{at}_control",
                f"Dwell {k}, control level",
                tuple(map(float, t)),
                tuple(map(float, control)),
                "s",
                "m/s²",
            )
        )
        if not parts[0].mark.get("follow"):
            continue
        wanted, role = float(parts[0].mark["wanted"]), parts[0].mark.get("role")
        i = roles.index(role) if role in roles else len(controls)
        turn = np.degrees(np.angle(p[i] * np.conj(p[0]) * np.exp(-1j * np.radians(wanted))))
        settled = np.any([(t > a + 3.0) & (t <= b) for a, b in pieces], axis=0)
        drift = 100 * (float(f[-1] / f[settled][0]) - 1) if settled.any() else None
        short = None if settled.any() else "the dwell is shorter than the 3 s in which it settles"
        readings.append(
            Reading(f"{at}_drift", f"Dwell {k}, drift of the resonance", drift, "%", valid=short is None, reason=short)
        )
        off = turn[settled & np.isfinite(turn)]
        if off.size:
            readings.append(
                Reading(f"{at}_phase_error", f"Dwell {k}, largest error of phase", float(np.max(np.abs(off))), "°")
            )
        curves.append(
            Curve(
                f"{at}_phase",
                f"Dwell {k}, phase off its value",
                tuple(map(float, t)),
                tuple(map(float, turn)),
                "s",
                "°",
            )
        )
    return readings, curves


def _joined(parts: list[Stretch]) -> Any:
    """The phase over pieces that follow one another, each begun where the one before ended."""
    starts = np.array([s.start for s in parts])

    def phase(t: Floats) -> Floats:
        t = np.asarray(t)
        which = np.clip(np.searchsorted(starts, t, side="right") - 1, 0, len(parts) - 1)
        made = np.empty(t.shape)
        for i in np.unique(which):
            mine = which == i
            made[mine] = parts[i].phase(t[mine])
        return made

    return phase
