"""Response of an output to what was fed in: by a sweep, by dwelling tones, or by anything broad (IEC 60268-3, 14.11).

A sweep is divided out in frequency; an exponential one puts each harmonic of a distorting output at its own time before
the linear response, where it is cut away (Farina, AES preprint 5093, 2000).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..signal.sinefit import Complexes, Floats
from ..signal.spectra import averaged, lines
from .tones import fit

GRID = 96
"""Points an octave"""
SHORT, CROSS = 0.6, 30.0
"""s of the gate from an octave above this frequency [Hz]; below it is as long as the lowest frequency asks"""
HOP = 0.01
"""s between two looks at the stimulus' frequency"""


@dataclass(frozen=True)
class Response:
    """Output over stimulus, the pure delay taken off."""

    frequency: Floats
    """Hz, rising"""
    gain: Complexes
    delay: float
    """s"""
    kind: str
    """sweep, tones or broad"""
    band: tuple[float, float]
    """Hz that the stimulus covers"""
    resolution: float = 0.0
    """Hz over which gating or framing rounds the response off; 0 for tones"""


@dataclass(frozen=True)
class Course:
    """What a stimulus does: frequency [Hz] and envelope, every `HOP` seconds; NaN where it is silent."""

    time: Floats
    frequency: Floats
    kind: str


def course_of(x: Floats, rate: float) -> Course:
    """Frequency of the stimulus along time, and whether it sweeps, dwells on tones, or is broad. Raises ValueError for
    a record shorter than ten looks."""
    n = x.size
    if n < 10 * max(int(HOP * rate), 8):
        raise ValueError("the record is too short for a response")
    spectrum = np.fft.fft(x - x.mean())
    spectrum[1 : (n + 1) // 2] *= 2
    spectrum[n // 2 + 1 :] = 0
    analytic = np.fft.ifft(spectrum)
    envelope = np.abs(analytic)
    hop = max(int(HOP * rate), 8)
    count = n // hop
    phase = np.unwrap(np.angle(analytic))
    starts = np.arange(count) * hop
    ends = np.minimum(starts + hop, n - 1)
    f = (phase[ends] - phase[starts]) / (2 * np.pi * (ends - starts) / rate)
    cut = envelope[: count * hop].reshape(count, hop)
    level = cut.mean(axis=1)
    # The envelope of a slow tone reaches beyond its ends; the samples themselves do not.
    moved = np.abs(x - np.median(x))
    heard = np.flatnonzero(moved > 0.01 * np.max(moved))
    loud = (level > 0.03 * np.quantile(level, 0.95)) & (f > 0) & (starts >= heard[0] - 1) & (ends <= heard[-1] + 1)
    time = (starts + ends) / 2 / rate
    f = np.where(loud, f, np.nan)
    # A sine of whatever course has a smooth envelope; noise and many tones have not.
    rough = float(np.median(cut[loud].std(axis=1) / level[loud])) if loud.any() else 1.0
    if rough > 0.15:
        return Course(time, f, "broad")
    change = np.abs(np.diff(np.log(f[loud]))) if loud.sum() > 2 else np.zeros(1)
    # A sweep moves all the time; one that dwells stands still in most looks.
    span = float(np.ptp(np.log(f[loud]))) if loud.any() else 0.0
    dwells = span < 0.01 or float(np.median(change)) * change.size < 0.1 * span
    return Course(time, f, "tones" if dwells else "sweep")


def plateaus(course: Course) -> list[tuple[float, float, float]]:
    """(start [s], stop [s], Hz) of the tones that a stimulus dwells on."""
    made: list[tuple[float, float, float]] = []
    run: list[int] = []
    for i, f in enumerate(np.append(course.frequency, np.nan)):
        held = float(np.median(course.frequency[run])) if run else np.nan
        # A tone slower than the looks swings about its frequency; the wider gate is for those.
        gate = 0.005 + 0.5 / max(f * HOP * 20, 1) if np.isfinite(f) else 0.0
        if run and not (np.isfinite(f) and abs(f / held - 1) < gate):
            if len(run) >= 4:
                made.append((float(course.time[run[0]] - HOP / 2), float(course.time[run[-1]] + HOP / 2), held))
            run = []
        if np.isfinite(f) and i < course.frequency.size:
            run.append(i)
    return made


def coarse_delay(stimulus: Floats, output: Floats, rate: float) -> tuple[float, float]:
    """Delay [s] by the highest point of the cross-correlation, and its sign."""
    n = 1 << (2 * stimulus.size - 1).bit_length()
    made = np.fft.irfft(np.fft.rfft(output, n) * np.conj(np.fft.rfft(stimulus, n)), n)
    top = int(np.argmax(np.abs(made)))
    return (top if top < n // 2 else top - n) / rate, float(np.sign(made[top])) or 1.0


def _delay(frequency: Floats, gain: Complexes, sign: float) -> float:
    """What is left of a pure delay [s] in a response, by a straight line through the unwrapped phase."""
    phase = np.unwrap(np.angle(gain * sign))
    phase -= 2 * np.pi * np.round(float(np.median(phase)) / (2 * np.pi))
    return -float(np.sum(phase * frequency) / np.sum(frequency**2)) / (2 * np.pi)


def measure(stimulus: Floats, output: Floats, rate: float) -> Response:
    """Response of `output` to `stimulus`, both sampled at `rate` [Hz]. Raises ValueError when nothing can be read."""
    if np.ptp(stimulus) <= 1e-12 * np.max(np.abs(stimulus), initial=0.0):
        raise ValueError("the stimulus is silent")
    course = course_of(stimulus, rate)
    delay, sign = coarse_delay(stimulus - stimulus.mean(), output - output.mean(), rate)
    resolution = 0.0
    if course.kind == "tones":
        frequency, gain = _tones(stimulus, output, rate, course, delay)
    elif course.kind == "sweep":
        frequency, gain, resolution = _sweep(stimulus, output, rate, course, delay)
    else:
        frequency, gain, resolution = _broad(stimulus, output, rate, delay)
    if frequency.size > 1:
        left = _delay(frequency, gain, sign)
        # A few points far apart do not tell a delay from a turn too many.
        if frequency.size > 8 or abs(left) < 1 / rate:
            gain, delay = gain * np.exp(2j * np.pi * frequency * left), delay + left
    return Response(frequency, gain, delay, course.kind, (float(frequency[0]), float(frequency[-1])), resolution)


def _tones(stimulus: Floats, output: Floats, rate: float, course: Course, delay: float) -> tuple[Floats, Complexes]:
    found: dict[float, list[complex]] = {}
    for start, stop, f in plateaus(course):
        # The output settles for a fifth of the tone, and follows late.
        begin, end = start + max(delay, 0) + 0.2 * (stop - start), stop - HOP
        a, b = int(begin * rate), int(end * rate)
        if (b - a) / rate * f < 6:
            continue
        try:
            own = fit(stimulus[a:b], rate, np.array([[1]]), np.array([f]))
            answer = fit(output[a:b], rate, np.array([[1], [2], [3]])[: 3 if 3 * f < 0.49 * rate else 1], own.bases,
                         refine=False)  # fmt: skip
        except ValueError:
            continue
        at = float(own.bases[0])
        at = next((k for k in found if abs(k / at - 1) < 1e-3), at)
        found.setdefault(at, []).append(answer.phasors[0] / own.phasors[0] * np.exp(2j * np.pi * at * delay))
    if not found:
        raise ValueError("no tone of the stimulus lasts for six periods")
    frequency = np.array(sorted(found))
    return frequency, np.array([np.mean(found[f]) for f in frequency])


def log_grid(low: float, high: float) -> Floats:
    """`GRID` points an octave, on 1 kHz."""
    first, last = np.ceil(GRID * np.log2(low / 1e3) - 1e-9), np.floor(GRID * np.log2(high / 1e3) + 1e-9)
    return np.asarray(1e3 * 2 ** (np.arange(first, last + 1) / GRID))


def _sweep(stimulus: Floats, output: Floats, rate: float, course: Course, delay: float
           ) -> tuple[Floats, Complexes, float]:  # fmt: skip
    """Division in frequency, the linear part gated in time."""
    heard = np.isfinite(course.frequency)
    track, when = course.frequency[heard], course.time[heard]
    ends = sorted((_end(track), _end(track[::-1])))
    low, high = ends[0], min(ends[1], 0.49 * rate)
    if high < 1.2 * low:
        raise ValueError("the stimulus hardly sweeps")
    n = 1 << (2 * stimulus.size - 1).bit_length()
    x, y = np.fft.rfft(stimulus - stimulus.mean(), n), np.fft.rfft(output - output.mean(), n)
    f = lines(n, rate)
    own = np.abs(x) ** 2
    inside = (f >= low) & (f <= high)
    h = y * np.conj(x) / np.maximum(own, 1e-6 * np.median(own[inside]))
    h *= np.exp(2j * np.pi * f * delay)
    # Beyond the sweep the response goes on as it ends, so that gating does not round off its ends.
    first, last = np.flatnonzero(inside)[[0, -1]]
    h[:first] = _continued(f[: 2 * first], h[: 2 * first], first)
    h[last + 1 :] = np.mean(h[last - max(int(0.01 * low / f[1]), 8) : last + 1])
    impulse = np.fft.irfft(h, n)
    # The second harmonic comes earlier by the time of an octave; half of that is kept clear of it.
    octave = float(when[-1] - when[0]) / np.log2(ends[1] / ends[0])
    before, after = 0.5 * octave, min(max(0.5, 20 / low), stimulus.size / rate)
    gated = np.fft.rfft(impulse * _gate(n, rate, before, after))
    if after > SHORT:
        # Only slow responses last long; a long gate lets hum and noise in, which higher up need not be.
        brief = np.fft.rfft(impulse * _gate(n, rate, before, SHORT))
        share = np.clip(np.log2(np.maximum(f, 1e-9) / CROSS), 0, 1)
        gated = gated * (1 - share) + brief * share
    grid = log_grid(low, high)
    return grid, np.interp(grid, f, gated.real) + 1j * np.interp(grid, f, gated.imag), 1 / before


def _end(track: Floats) -> float:
    """Frequency [Hz] with which a sweep begins. Its first looks waver, most of all at low frequencies: of medians of
    three in the first twentieth, the one that lies farthest from the rest."""
    first = track[: max(track.size // 20, 3)]
    if first.size < 5:
        return float(first[0])
    smooth = np.median(np.lib.stride_tricks.sliding_window_view(first, 3), axis=1)
    return float(smooth.min() if track[track.size // 2] > first[0] else max(smooth.max(), first[0]))


def _continued(f: Floats, h: Complexes, first: int) -> Complexes:
    """What `h` would be below line `first`: straight on in log gain and phase over log frequency, from a seventh of an
    octave above."""
    near = (f >= f[first]) & (f <= 1.1 * f[first])
    x = np.log(f[near] / f[first])
    rows = np.stack([np.ones(x.size), x]).T
    held = np.log(np.abs(h[near])) + 1j * np.unwrap(np.angle(h[near]))
    at, slope = np.linalg.lstsq(rows, held, rcond=None)[0] if x.size > 2 else (held[0], 0j)
    slope = complex(min(max(slope.real, 0.0), 4.0), slope.imag)
    below = np.log(np.maximum(f[:first], 0.1 * f[1]) / f[first])
    return np.asarray(np.exp(at + slope * below))


def _gate(n: int, rate: float, before: float, after: float) -> Floats:
    """1 about time zero of a circular record, falling to 0 over the outer half of `before` and `after` [s]."""
    made = np.zeros(n)
    for length, side in ((before, -1), (after, 1)):
        m = min(max(int(length * rate), 8), n // 2 - 1)
        fall = np.ones(m)
        half = m // 2
        fall[half:] = 0.5 + 0.5 * np.cos(np.pi * np.arange(m - half) / (m - half))
        if side > 0:
            made[:m] = fall
        else:
            made[-m:] = fall[::-1]
    return made


def _broad(stimulus: Floats, output: Floats, rate: float, delay: float) -> tuple[Floats, Complexes, float]:
    """H1 (Bendat & Piersol, 6.1), lines gathered to an even spacing on the log axis."""
    shift = int(round(delay * rate))
    a, b = (stimulus[: stimulus.size - shift], output[shift:]) if shift >= 0 else (stimulus[-shift:], output[:shift])
    frame = min(max(a.size // 8, 256), int(2 * rate))
    frame -= frame % 2
    made = averaged([np.stack([a, b])], 2, rate, frame)
    f, auto, cross = made.frequency[2:], made.auto[0, 2:], made.cross[1, 2:]
    used = auto > 1e-4 * np.max(auto)
    octaves = np.floor(np.log2(f / 1e3) * GRID / 4).astype(int)
    points, gains = [], []
    for one in np.unique(octaves[used]):
        held = used & (octaves == one)
        points.append(float(np.exp(np.mean(np.log(f[held])))))
        gains.append(np.sum(cross[held]) / np.sum(auto[held]))
    frequency = np.array(points)
    return frequency, np.array(gains) * np.exp(2j * np.pi * frequency * (delay - shift / rate)), rate / frame


def corners(frequency: Floats, gain_db: Floats, reference: float) -> tuple[float | None, float | None]:
    """Hz on either side of `reference` where the gain [dB re the reference] first is at half power, 10·lg(1/2)."""
    half = 10 * np.log10(0.5)
    start = int(np.argmin(np.abs(np.log(frequency / reference))))
    made: list[float | None] = []
    for path in (range(start, -1, -1), range(start, frequency.size)):
        found = None
        for a, b in zip(path, list(path)[1:], strict=False):
            if gain_db[a] >= half > gain_db[b]:
                share = (half - gain_db[a]) / (gain_db[b] - gain_db[a])
                found = float(frequency[a] * (frequency[b] / frequency[a]) ** share)
                break
        made.append(found)
    return made[0], made[1]
