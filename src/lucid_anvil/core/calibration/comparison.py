"""Comparison of a vibration sensor with a reference (ISO 16063-21): one ratio a tone, or the reason why not.

Every tone is fitted in both channels with one common frequency after it has settled; the ratio of the two
phasors is what the method rests on. A tone with a fault in it is struck with its reason, never averaged in.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from ..signal.health import beyond_range, bursts, flat_tops
from ..signal.hum import Hum, gather, line_frequencies
from ..signal.sinefit import Floats, ToneFit, block_phasors, fit_tone, periodic_phasors, turning

REFERENCE, UNIT = 0, 1
NAMES = ("reference", "unit")
NEAR = 8.0
"""Lines of 1/duration within which known hum is taken off beforehand: settling may leave a third of a tone."""


@dataclass(frozen=True)
class Tone:
    """Where in a record a tone stands: nominal frequency [Hz], start and stop [s], settling included."""

    frequency: float
    start: float
    stop: float


@dataclass(frozen=True)
class ToneResult:
    """What one tone gave. Amplitudes are peak, in the unit of the samples."""

    frequency: float
    start: float
    stop: float
    ratio: complex = complex("nan")
    """Unit over reference."""
    spread: float = float("nan")
    """Relative standard uncertainty of the mean of the ratio, from blocks of the tone."""
    dof: float = 1.0
    amplitude: tuple[float, float] = (float("nan"), float("nan"))
    distortion: tuple[float, float] = (float("nan"), float("nan"))
    """rms sum of harmonics over fundamental."""
    hum: float = 0.0
    """Relative standard uncertainty left by hum that can't be told from the tone."""
    settle: float = 0.0
    """s, taken off the start."""
    fitted: float = float("nan")
    """Hz."""
    fault: str | None = None

    @property
    def valid(self) -> bool:
        return self.fault is None


Reader = Callable[[float, float], Floats]
"""read(start, stop) in seconds -> samples (2, n), the reference first."""


def settled_from(clean: Floats, rate: float, frequency: float, t0: float) -> int:
    """First sample from which both channels stand still.

    The tone's phasor is followed in windows of whole periods; settled is where it stays within four robust
    standard deviations (or 2e-4) of its median over the last half, four windows in a row. A quarter of that time
    is added.
    """
    n = clean.shape[1]
    period = rate / frequency
    width = int(np.ceil(max(2.0, np.ceil(n / 40 / period)) * period))
    count = n // width
    if count < 4:
        return 0
    edges = n - width * np.arange(count, -1, -1)
    phasors = block_phasors(clean, rate, frequency, edges, t0)
    late = phasors[:, count // 2 :]
    centre = np.median(late.real, axis=1) + 1j * np.median(late.imag, axis=1)
    away = np.abs(phasors - centre[:, None]) / np.maximum(np.abs(centre[:, None]), 1e-300)
    allowed = np.maximum(4 * 1.4826 * np.median(away[:, count // 2 :], axis=1), 2e-4)
    fine = np.all(away <= allowed[:, None], axis=0)
    # What disturbs the tone later on is a fault to be told, not settling; so the first calm stretch counts.
    calm = fine[:-3] & fine[1:-2] & fine[2:-1] & fine[3:]
    first = int(np.argmax(calm)) if calm.any() else int(0.7 * count)
    # What lies before the first window was not looked at.
    return min(int(edges[first] * 1.25), int(0.7 * n))


def _find_settled(x: Floats, rate: float, tone: Tone, lines: Floats) -> int:
    """First settled sample. The later half tells hum and frequency; with the hum taken off the tone is followed."""
    half = x.shape[1] // 2
    if (x.shape[1] - half) / rate * tone.frequency < 3:
        return 0
    fit = fit_tone(x[:, half:], rate, tone.frequency, t0=tone.start + half / rate, lines=lines)
    whole = x.copy()
    for line, phasors in zip(lines, fit.lines.T, strict=True):
        if np.isfinite(phasors[0]):
            whole -= (phasors[:, None] * turning(line, rate, tone.start, x.shape[1])[None, :]).real
    return settled_from(whole, rate, fit.frequency, tone.start)


def _without_nuisance(x: Floats, fit: ToneFit, rate: float, t0: float) -> Floats:
    """The samples less everything fitted but the tone itself."""
    return fit.residual + (fit.phasors[:, None] * turning(fit.frequency, rate, t0, x.shape[1])[None, :]).real


def _collides(tone: Tone, hum: Hum) -> bool:
    """Whether a hum line that is there can't be told from the tone or one of its harmonics."""
    gaps = np.abs(np.arange(1, 6)[:, None] * tone.frequency - hum.frequencies[None, hum.seen])
    return bool(gaps.size and gaps.min() * (tone.stop - tone.start) < NEAR)


def _subtract_hum(x: Floats, tone: Tone, hum: Hum | None, rate: float, t0: float) -> tuple[Floats, Floats]:
    """Take off the known hum that collides with the tone or its harmonics; and what doubt of it is left."""
    left = np.zeros(2)
    if hum is None:
        return x, left
    duration = x.shape[1] / rate
    x = x.copy()
    for i, line in enumerate(hum.frequencies):
        orders = np.arange(1, 6) * tone.frequency
        gap = np.abs(orders - line) * duration
        if not hum.seen[i] or gap.min() >= NEAR:
            continue
        for channel in range(2):
            known = np.isfinite(hum.scatter[channel, i])
            if known:
                x[channel] -= hum.wave(channel, i, rate, t0, x.shape[1])
            if gap[0] < 5.0:
                left[channel] += hum.scatter[channel, i] ** 2 if known else abs(hum.phasors[channel, i]) ** 2
    return x, np.sqrt(left)


def _cable_fault(x: Floats, rate: float, frequency: float) -> str | None:
    """A channel that falls out while the other goes on. Looked for over the whole tone, settling included."""
    period = rate / frequency
    width = int(np.ceil(max(period, 0.005 * rate)))
    count = x.shape[1] // width
    if count < 6:
        return None
    cut = x[:, : count * width].reshape(2, count, width)
    level = cut.std(axis=2)
    usual = np.median(level[:, count // 2 :], axis=1)
    if np.any(usual <= 0):
        return None
    share = level / usual[:, None]
    for one, other in ((UNIT, REFERENCE), (REFERENCE, UNIT)):
        if np.any((share[one] < 0.75) & (share[other] > 0.9)):
            return f"{NAMES[one]} signal drops out (intermittent cable or connector)"
    return None


def measure_tone(
    read: Reader,
    rate: float,
    tone: Tone,
    *,
    settle: float | None = None,
    limits: tuple[float | None, float | None] = (None, None),
    mains: float | None = None,
    hum: Hum | None = None,
) -> tuple[ToneResult, ToneFit | None]:
    """Ratio of unit to reference at one tone.

    `settle` s, found from the data when None; `limits` where each input overloads, in the samples' unit
    (None: flat tops are looked for); `mains` Hz, or None when not known; `hum` what other tones told of it.
    """
    raw = np.asarray(read(tone.start, tone.stop), dtype=float)
    # The stated end may be a few samples late: what follows the tone must not count as its fault.
    x = raw = raw[:, : raw.shape[1] - max(3, raw.shape[1] // 200)]
    result = ToneResult(tone.frequency, tone.start, tone.stop)
    if x.shape[1] / rate * tone.frequency < 3:
        return replace(result, fault="fewer than three periods were recorded"), None
    x = x - np.median(x, axis=1, keepdims=True)
    fault = _obvious_fault(raw, rate, tone.frequency, limits)
    lines = line_frequencies(mains)
    x, doubt = _subtract_hum(x, tone, hum, rate, tone.start)
    skip = int((settle or 0.0) * rate)
    if x.shape[1] - skip < 3 * rate / tone.frequency:
        return replace(result, fault="fewer than three periods are left after settling"), None
    if settle is None:
        skip = _find_settled(x, rate, tone, lines)
    fit = fit_tone(x[:, skip:], rate, tone.frequency, t0=tone.start + skip / rate, lines=lines)
    t0 = tone.start + skip / rate
    amplitude = np.abs(fit.phasors)
    fault = fault or _no_output(x, fit) or _cable_fault(x, rate, tone.frequency)
    clean = _without_nuisance(x[:, skip:], fit, rate, t0)
    if fault is None:
        window = int(max(rate / tone.frequency, 0.004 * rate))
        for channel in (UNIT, REFERENCE):
            if bursts(fit.residual[channel], amplitude[channel], window):
                fault = f"{NAMES[channel]} signal is broken by bursts (intermittent cable or connector)"
                break
    ratio, spread, dof = _ratio_in_blocks(clean, rate, fit.frequency, t0)
    relative = np.sqrt(((doubt / np.maximum(amplitude, 1e-300)) ** 2).sum())
    if fault is None and relative > 0.01:
        fault = "hum can't be told from the tone"
    lines_rms = np.sqrt(np.nansum(np.abs(fit.lines) ** 2, axis=1))
    if fault is None and lines_rms[UNIT] > 0.5 * amplitude[UNIT]:
        fault = "hum is as strong as the tone in the unit's signal"
    distortion = fit.distortion
    result = replace(
        result,
        ratio=complex(fit.phasors[UNIT] / fit.phasors[REFERENCE]) if amplitude[REFERENCE] > 0 else complex("nan"),
        spread=spread,
        dof=dof,
        amplitude=(float(amplitude[0]), float(amplitude[1])),
        distortion=(float(distortion[0]), float(distortion[1])),
        hum=float(relative),
        settle=skip / rate,
        fitted=fit.frequency,
        fault=fault,
    )
    return result, fit


def _obvious_fault(x: Floats, rate: float, frequency: float, limits: tuple[float | None, float | None]) -> str | None:
    """Overload or silence, seen before any fit."""
    for channel, limit in enumerate(limits):
        if not np.all(np.isfinite(x[channel])):
            return f"{NAMES[channel]} signal has gaps"
        if limit is not None:
            if beyond_range(x[channel], limit):
                return f"{NAMES[channel]} input is overloaded"
        elif flat_tops(x[channel], rate, frequency):
            return f"{NAMES[channel]} signal has flat tops (overload)"
    for channel in range(2):
        if np.ptp(x[channel]) == 0:
            return f"{NAMES[channel]} gives no output"
    return None


def _no_output(x: Floats, fit: ToneFit) -> str | None:
    n = fit.residual.shape[1]
    for channel in range(2):
        amplitude = abs(fit.phasors[channel])
        error = fit.residual_rms[channel] * np.sqrt(2.0 / n)
        if amplitude < 10 * error or amplitude < 0.02 * fit.residual_rms[channel]:
            return f"{NAMES[channel]} gives no output at the tone"
    return None


def _ratio_in_blocks(clean: Floats, rate: float, frequency: float, t0: float) -> tuple[complex, float, float]:
    """Mean ratio, relative standard uncertainty of the mean and its degrees of freedom."""
    n = clean.shape[1]
    period = rate / frequency
    count = int(min(10, n // (2 * period)))
    if count < 3 or not np.all(np.any(clean, axis=1)):
        return complex("nan"), 1e-3, 1.0
    edges = np.linspace(0, n, count + 1).astype(int)
    p = block_phasors(clean, rate, frequency, edges, t0)
    ratio = p[UNIT] / p[REFERENCE]
    mean = ratio.mean()
    scatter = np.sqrt((np.abs(ratio - mean) ** 2).sum() / (count - 1) / 2)
    return complex(mean), float(scatter / abs(mean) / np.sqrt(count)), float(2 * (count - 1))


def strike_loose(results: list[ToneResult]) -> list[ToneResult]:
    """Strike tones whose unit rattles: distorted where the reference is not, or with a phase that jumps away.

    The whole series is needed, since what is usual for this unit is told by its neighbours.
    """
    good = [r for r in results if r.valid]
    if not good:
        return results
    magnitude = np.array([abs(r.ratio) for r in good])
    phase = np.unwrap(np.array([np.angle(r.ratio) for r in sorted(good, key=lambda r: r.frequency)]))
    by_frequency = {r.frequency: p for r, p in zip(sorted(good, key=lambda r: r.frequency), phase, strict=True)}
    order = sorted(by_frequency)
    usual = float(np.median(magnitude))
    made = []
    for r in results:
        if not r.valid:
            made.append(r)
            continue
        ref, unit = r.distortion
        i = order.index(r.frequency)
        around = [by_frequency[f] for f in order[max(i - 2, 0) : i + 3] if f != r.frequency]
        jump = abs(by_frequency[r.frequency] - float(np.median(around))) if len(around) >= 2 else 0.0
        fault = None
        if abs(r.ratio) < 0.1 * usual:
            fault = "unit gives almost no output (open cable?)"
        elif abs(r.ratio) > 10 * usual:
            fault = "reference gives almost no output (open cable?)"
        elif unit > max(0.05, 3 * ref + 0.02) or (unit > max(0.02, 3 * ref) and jump > np.radians(4)):
            fault = (
                f"unit is distorted by {100 * unit:.1f} % where the reference is by {100 * ref:.1f} % (mounted loose?)"
            )
        elif ref > max(0.05, 3 * unit + 0.02):
            fault = (
                f"reference is distorted by {100 * ref:.1f} % where the unit is by {100 * unit:.1f} % (mounted loose?)"
            )
        made.append(replace(r, fault=fault) if fault else r)
    return made


def measure_series(
    read: Reader,
    rate: float,
    tones: Sequence[Tone],
    *,
    settle: float | None = None,
    limits: tuple[float | None, float | None] = (None, None),
    mains: float | None = None,
) -> list[ToneResult]:
    """All tones of a record, in the order given. Two passes: hum found where it can be told apart from the
    tone is taken off where it can't. See `measure_tone` for the parameters."""
    firsts = [measure_tone(read, rate, tone, settle=settle, limits=limits, mains=mains) for tone in tones]
    lines = line_frequencies(mains)
    usable = [(r, f) for r, f in firsts if f is not None and (r.fault is None or r.fault.startswith("hum"))]
    results = [r for r, _ in firsts]
    if len(usable) >= 3:
        hum = gather(
            lines,
            np.array([f.lines for _, f in usable]),
            np.array([(r.start + r.settle + r.stop) / 2 for r, _ in usable]),
            np.array([f.residual_rms * np.sqrt(2.0 / f.residual.shape[1]) for _, f in usable]),
        )
        if hum.seen.any():
            results = [
                measure_tone(read, rate, tone, settle=settle, limits=limits, mains=mains, hum=hum)[0]
                if _collides(tone, hum)
                else first
                for tone, first in zip(tones, results, strict=True)
            ]
    return strike_loose(results)


def measure_multisine(
    x: Floats, rate: float, frequencies: Floats, period: int, start: float, stop: float, skip: int = 1
) -> list[ToneResult]:
    """All tones at once, from whole periods of a multi-sine; the first `skip` periods are settling.

    `x` (2, n). The spread comes from the periods; tones below eight times their own noise are struck.
    """
    phasors = periodic_phasors(x[:, skip * period :], rate, frequencies, period)
    count = phasors.shape[2]
    fault: str | None = None
    for channel in range(2):
        if not np.any(phasors[channel]):
            fault = f"{NAMES[channel]} gives no output"
    made = []
    powers = np.abs(phasors).mean(axis=2)
    level = (np.abs(phasors) ** 2).sum(axis=1)
    uneven = level / np.maximum(np.median(level, axis=1, keepdims=True), 1e-300)
    for channel in range(2):
        if np.any(uneven[channel] < 0.8):
            fault = fault or f"{NAMES[channel]} signal drops out (intermittent cable or connector)"
    for i, f in enumerate(frequencies):
        p = phasors[:, i, :]
        mean = p.mean(axis=1)
        ratio = complex(mean[UNIT] / mean[REFERENCE]) if mean[REFERENCE] else complex("nan")
        scatter = 0.0
        if count > 1 and mean[REFERENCE] and mean[UNIT]:
            each = p[UNIT] / mean[UNIT] - p[REFERENCE] / mean[REFERENCE]
            scatter = float(np.sqrt((np.abs(each) ** 2).sum() / (count - 1) / 2 / count))
        why = fault or ("the tone is lost in noise" if scatter > 0.125 else None)
        made.append(
            ToneResult(
                float(f), start, stop, ratio, scatter if count > 1 else 1e-3, 2.0 * max(count - 1, 1) - 1,
                (float(powers[0, i]), float(powers[1, i])), (0.0, 0.0), 0.0, skip * period / rate, float(f), why,
            )
        )  # fmt: skip
    return made
