"""Whether the measuring chain is still the one that the probe run saw.

A sensor that loses half of its sensitivity lets the loop drive twice as hard, and every level that rests on it looks
right. What gives it away are the others: the probed plant says what each channel should show for the drive as it is
played, and a channel whose own ratio to that jumps while the others' stay has changed, not the structure. A mode that
softens, drifts or is swept through changes the ratios too, but slowly against the windows that are compared here, or
of several channels at once.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from ..rolling import Rolling
from ..signal.sinefit import Floats
from .contact import ContactWatch
from .plant import LoopResponse
from .twin import Twin

TOGETHER = 0.35
"""ln of a change that all channels share, above which none is blamed: the drive itself has gone"""
LEAST = 0.14
"""Jump of ln(ratio) that counts at least: 13 % lost, 15 % gained"""
GROSS = 0.55
"""Jump that is taken for true at once: 42 % lost, 73 % gained"""
SLOW = 0.25
"""ln(ratio) by which a channel may creep away, beyond what a moved mode explains"""
WINDOW, GROSS_WINDOW = 0.07, 0.03
"""s that the windows span at least"""
PERIODS = 2.5
"""that a window holds at least, of the drive's mean frequency"""
HURRIED = 1.0
"""times an octave a second of sweep, by which more a jump must be: sharp modes glide fast then"""
STEEP = 3.0
"""times what the ratio moves by before and after it, a jump must be: a mode that is swept through glides"""
SCATTERED = 6.0
"""times the jumps' own scatter a jump must be"""
AUDIBLE = 4.0
"""times its noise a channel must show"""
FAINT = 2e-3
"""share of the loudest energy that a window must hold to be compared"""
MEMORY = 12.0
"""s over which the scatter is learned"""
CREEP = 1.5
"""s over which slow changes are read"""
SHIFT = 0.08
"""share by which a mode may have moved since the probe run"""
UNSTEADY = 2.5
"""times the energy of a sine's drive in one window over another's: modes ring then, and tell nothing of a chain"""
SHARP = 0.7
"""ln(ratio) that a moved mode explains, beyond which a slow change is not looked for"""
STILL, WANDER = 2e-4, 0.015
"""Share of its frequency by which a sine wanders in a second at least, and at most, that is held at a resonance"""
PASSED, SURE = 0.025, 1.5
"""Share by which a sharp mode may have moved while it is swept over; times what that explains, a jump must be"""
RINGING = 80.0
"""Periods after its begin in which a sine's modes come up: five times what one of a quality of 50 takes"""
LASTS, OCTAVES = 3.0, 0.35
"""s, and octaves of a sweep, for which a channel must be beyond what moved modes explain"""


@dataclass(frozen=True)
class Changed:
    """A channel whose ratio to its model changed while the others' stayed."""

    channel: int
    by: float
    """factor by which it now shows more or less than before"""
    witnesses: tuple[int, ...]
    """Channels that went on as before; none: it may be the drive that changed"""
    flickers: bool = False
    """It comes and goes, within periods of a sine"""


class ChainWatch:
    """Fed block by block; a change is told in the block in which it is sure."""

    def __init__(
        self, plant: LoopResponse, rate: float, block: int, highest: float, watched: Sequence[int], tonal: bool,
    ) -> None:  # fmt: skip
        """`plant` of all channels; `watched` its rows that are fed, control points first; `highest` [Hz] driven;
        `tonal`: by a sine, whose frequency says which mode may explain what."""
        rows = list(watched)
        held = plant.rows(rows)
        self.count, self.tonal = len(rows), tonal
        self.twin = Twin(held, self.count, rate, block, highest)
        self.rate, self.block = rate, block
        self.span = block / rate
        thin = self.twin.thin
        # The same band as the twin's, as late as it.
        self.taps = _low_pass(2 * self.twin.late * thin + 1, rate, highest)
        self.tail = np.zeros((self.count, self.taps.size - 1))
        # Of white noise the low pass lets through its own share.
        self.floor = (held.noise**2) * float(np.sum(self.taps**2))
        self.lines = held.frequency[1] - held.frequency[0]
        self.size = np.log(np.maximum(np.abs(held.smoothed), 1e-12))
        self.sums = Rolling(int(np.ceil(max(CREEP, 8 * PERIODS / 4.0) / self.span)) + 8, 4, self.count + 1)
        """(4, channels + 1) a block: sum, energy shown, energy that the model gives, and the two sums from which a
        sine's frequency comes; last column samples, turns, energy of the drive"""
        self.loudest = np.zeros(self.count)
        self.last = self.driven = self.since = 0.0
        self.scatter = [Rolling(int(MEMORY / self.span), self.count) for _ in range(2)]
        """Jumps of late, without their signs"""
        self.start: Floats | None = None
        """Where the channels stood when creeping was first looked at"""
        self.beyond: list[float] = []
        """Frequencies [Hz] of the last blocks, as long as a channel is beyond what moved modes explain"""
        self.jumps = np.zeros(self.count)
        self.limit = LEAST
        self.contact = ContactWatch(self.count, self.span) if tonal else None

    def feed(self, x: Floats, drive: Floats) -> Changed | None:
        """One block: `x` (channels, n) in their units, `drive` (n,) [V] as played."""
        y = self.twin(drive)
        whole = np.concatenate([self.tail, x], axis=1)
        self.tail = whole[:, whole.shape[1] - self.taps.size + 1 :]
        thin = self.twin.thin
        around = np.lib.stride_tricks.sliding_window_view(whole, self.taps.size, axis=1)[:, ::thin]
        z = around @ self.taps
        row = np.zeros((4, self.count + 1))
        row[0, :-1], row[1, :-1], row[2, :-1] = z.sum(axis=1), (z * z).sum(axis=1), (y * y).sum(axis=1)
        slow = np.append(self.last, drive[::thin])
        self.last = float(slow[-1])
        row[0, -1], row[1, -1] = z.shape[1], np.count_nonzero(np.signbit(slow[1:]) != np.signbit(slow[:-1]))
        row[2, -1] = float(slow @ slow)
        # Of a sine x(n-1) + x(n+1) = 2 cos(w) x(n) (Prony): its frequency, to a small part of what one turn shows.
        row[3, :2] = float(slow[1:-1] @ (slow[:-2] + slow[2:])), 2 * float(slow[1:-1] @ slow[1:-1])
        self.sums.add(row)
        held = self.sums.rows
        self.driven = max(self.driven, float(row[2, -1]))
        # Where nothing was driven there is no ratio: the newest unbroken stretch counts.
        quiet = np.flatnonzero(held[:, 2, -1] <= 1e-7 * self.driven)
        held = held[quiet[-1] + 1 :] if quiet.size else held
        self.since = self.since + self.span if row[2, -1] > 1e-7 * self.driven else 0.0
        return self._jumped(held) or self._flickered(z, y, slow[1:], held) or self._crept(held)

    def _frequency(self, held: Floats) -> float:
        """Hz, the drive's mean frequency of late, from its turns of sign."""
        turns = held[-max(4, round(0.3 / self.span)) :, :, -1].sum(axis=0)
        return float(max(turns[1] / 2 / (turns[0] / self.rate * self.twin.thin), 1.0))

    def _jumped(self, held: Floats) -> Changed | None:
        """A step between two windows that is steeper than what lies before and after it."""
        if len(held) < 4:
            return None
        f = self._frequency(held)
        periods = PERIODS / f
        found = None
        hurry = 1.0
        if self.tonal and len(held) * self.span > 0.8:
            hurry += HURRIED * abs(np.log2(f / self._frequency(held[: -round(0.4 / self.span)]))) / 0.4
        for which, (seconds, least, after) in enumerate(((GROSS_WINDOW, GROSS, 0), (WINDOW, LEAST, 1))):
            n = int(np.ceil(max(seconds, periods) / self.span - 1e-6))
            if len(held) < n * (4 + after):
                continue
            cut = len(held) - n * (4 + after)
            if self.tonal:
                drives = held[cut:, 2, -1].reshape(4 + after, n).sum(axis=1)
                if drives.max() > UNSTEADY * drives.min():
                    continue
            r = self._ratio(held[cut:].reshape(4 + after, n, *held.shape[1:]).sum(axis=1))
            d = r[3] - r[1]
            e = apart(d)
            glide = 2 * np.abs(apart(r[1] - r[0]))
            if after:
                glide = np.maximum(glide, 2 * np.abs(apart(r[4] - r[3])))
            known = self.scatter[which]
            sigma = 1.48 * np.median(known.rows, axis=0) if len(known) > 10 else np.zeros(self.count)
            glided = np.where(np.isfinite(glide), glide, 1e9)
            limit = np.maximum(np.maximum(least * hurry, SCATTERED * sigma), STEEP * glided)
            ringing = self.since - n * (4 + after) * self.span < RINGING / f
            if self.tonal and (not after or ringing):
                # A moved mode, or one that comes up, could explain it: what comes after the jump must be seen too.
                low, high = self._explained(f)
                limit = np.maximum(limit, high - low)
            if self.tonal and after and np.any(np.nan_to_num(np.abs(e)) >= limit):
                ends = (
                    self._frequencies(held[cut + n : cut + 2 * n]),
                    self._frequencies(held[cut + 3 * n : cut + 4 * n]),
                )
                limit = np.maximum(limit, np.maximum(self._wandered(held), self._passed(*map(np.median, ends))))
            if after:
                self.jumps, self.limit = np.nan_to_num(e), float(limit[0])
            found = found or _alone(d, e, limit)
            if np.isfinite(e).any():
                known.add(np.abs(np.nan_to_num(e)))
        return found

    def _flickered(self, z: Floats, y: Floats, drive: Floats, held: Floats) -> Changed | None:
        """A channel out of whose sine pieces are missing."""
        if self.contact is None or len(held) < 4:
            return None
        found = self.contact.feed(z, y, drive, self._frequency(held))
        if found is None or self.since * self._frequency(held) < RINGING:
            return None
        channel, by = found
        return Changed(channel, by, tuple(k for k in range(self.count) if k != channel), flickers=True)

    def _crept(self, held: Floats) -> Changed | None:
        """A channel that has gone away from the others, step by step or long ago."""
        n = int(np.ceil(max(CREEP, 4 * PERIODS / self._frequency(held)) / self.span)) if len(held) > 3 else 0
        if not n or len(held) < n:
            return None
        r = self._ratio(held[-n:].sum(axis=0)[None])[0]
        most = np.full(self.count, SLOW)
        f = self._frequency(held[-n:])
        if self.tonal:
            low, high = self._explained(f)
            e = apart(r)
            # Beside a sharp mode the model knows too little to tell a slow change.
            e = np.where(high - low < SHARP, e - np.clip(e, low, high), 0.0)
            d = r
        elif self.start is None or not np.isfinite(self.start).all():
            self.start = r
            return None
        else:
            d, f = r - self.start, 1.0
            e = apart(d)
        found = _alone(d, e, most)
        self.beyond = [*self.beyond, f] if found is not None else []
        if found is None or len(self.beyond) * self.span < LASTS:
            return None
        width = np.log2(max(self.beyond) / min(self.beyond))
        return found if width > OCTAVES or width < 0.02 else None

    def _wandered(self, held: Floats) -> Floats:
        """What the last second's wandering of a sine that is held at a resonance explains of each channel's ratio, with
        modes moved by up to `SHIFT`. Nothing where the frequency stands still, or sweeps."""
        f = self._frequencies(held[-max(4, round(1.0 / self.span)) :])
        middle = float(np.median(f))
        swing = float(np.ptp(f[np.abs(f / middle - 1) < 0.1])) / middle if middle > 0 else 0.0
        if not STILL < swing < WANDER:
            return np.zeros(self.count)
        against = self._against(np.arange(middle * (1 - SHIFT), middle * (1 + SHIFT), middle * swing / 4))
        if against.shape[1] < 6:
            return np.zeros(self.count)
        around = np.lib.stride_tricks.sliding_window_view(against, 5, axis=1)
        return np.asarray(SURE * np.ptp(around, axis=2).max(axis=1))

    def _passed(self, before: float, after: float) -> Floats:
        """What a sweep from one frequency [Hz] to another explains of each channel's jump, with modes moved by up to
        `PASSED` either way: next to nothing but beside a sharp mode."""
        if not abs(after / before - 1) < 0.1:
            return np.zeros(self.count)
        moves = 1 + np.linspace(-PASSED, PASSED, 51)
        jump = self._against(after * moves) - self._against(before * moves)
        return np.asarray(SURE * np.abs(jump - jump[:, [25]]).max(axis=1))

    def _frequencies(self, held: Floats) -> Floats:
        """Hz of a sine's drive in each block."""
        turn = np.arccos(np.clip(held[:, 3, 0] / np.maximum(held[:, 3, 1], 1e-300), -1, 1))
        return np.asarray(turn / (2 * np.pi) * self.rate / self.twin.thin)

    def _against(self, frequency: Floats) -> Floats:
        """ln of each channel's probed response against the middle one of the others', (channels, frequencies)."""
        x = np.clip(frequency / self.lines, 1, self.size.shape[1] - 2)
        k = x.astype(int)
        size = self.size[:, k] + (x - k) * (self.size[:, k + 1] - self.size[:, k])
        if self.count == 1:
            return np.asarray(size)
        return size - middle_of_others(size)

    def _explained(self, frequency: float) -> tuple[Floats, Floats]:
        """Least and greatest ln(ratio) against the others that modes moved by up to `SHIFT` explain at a frequency."""
        here = int(np.clip(round(frequency / self.lines), 1, self.size.shape[1] - 1))
        first = max(int(frequency * (1 - SHIFT) / self.lines), 1)
        last = min(int(frequency * (1 + SHIFT) / self.lines) + 2, self.size.shape[1])
        moved = self.size[:, first:last] - self.size[:, here : here + 1]
        # Each channel against the middle one of the others, for all moves at once.
        against = moved - middle_of_others(moved) if self.count > 1 else moved
        return against.min(axis=1), against.max(axis=1)

    def _ratio(self, windows: Floats) -> Floats:
        """ln of what each channel showed over what the model gives, by energy, (windows, channels) from their sums; nan
        where it shows hardly more than its noise."""
        sums, shown, model = windows[:, 0, :-1], windows[:, 1, :-1], windows[:, 2, :-1]
        n = windows[:, 0, -1:]
        shown = shown - sums**2 / n - n * self.floor
        loudest = np.maximum(np.maximum.accumulate(model / n), self.loudest)
        self.loudest = loudest[-1]
        loud = model > n * np.maximum(AUDIBLE**2 * self.floor, FAINT * loudest)
        return np.where(loud, 0.5 * np.log(np.maximum(shown, 1e-6 * model) / np.where(loud, model, 1.0)), np.nan)


def apart(d: Floats) -> Floats:
    """Each channel's jump against the middle one of the others'; its own where there is no other."""
    made = d.tolist()
    held = [v for v in made if math.isfinite(v)]
    if len(held) < 2:
        return d.copy()
    # A handful of numbers, many times a second: faster one by one than as an array.
    low, high = (len(held) - 2) // 2, (len(held) - 1) // 2
    for i, v in enumerate(made):
        if math.isfinite(v):
            others = sorted(held)
            others.remove(v)
            made[i] = v - (others[low] + others[high]) / 2
    return np.array(made)


def middle_of_others(x: Floats) -> Floats:
    """For each row the median of the other rows, place by place; two rows at least."""
    count = x.shape[0]
    order = np.argsort(x, axis=0, kind="stable")
    ranked = np.take_along_axis(x, order, axis=0)
    rank = np.argsort(order, axis=0, kind="stable")
    # Without the row of rank r, what stood behind it moves up by one.
    low, high = (count - 2) // 2, (count - 1) // 2
    below = np.take_along_axis(ranked, np.where(rank <= low, low + 1, low), axis=0)
    if low == high:
        return below
    return (below + np.take_along_axis(ranked, np.where(rank <= high, high + 1, high), axis=0)) / 2


def _alone(d: Floats, e: Floats, limit: Floats) -> Changed | None:
    """The channel that jumped against the others, which agree among themselves."""
    worst = np.nan_to_num(np.abs(e) / limit) + 1e-9 * np.nan_to_num(np.abs(d))
    i = int(np.argmax(worst))
    if worst[i] < 1:
        return None
    if abs(d[i] - e[i]) > max(TOGETHER, 1.5 * abs(e[i])):
        return None  # all of them went: what drives them did, and in dying away each goes its own way
    others = [k for k in range(d.size) if k != i and np.isfinite(d[k])]
    agree = tuple(k for k in others if abs(d[k] - (d[i] - e[i])) < 0.4 * abs(e[i]))
    if others and len(agree) <= len(others) // 2:
        return None
    return Changed(i, float(np.exp(e[i])), agree)


def _low_pass(taps: int, rate: float, highest: float) -> Floats:
    """Symmetric taps that let through the band that a `Twin` knows."""
    n = 8 * taps
    f = np.fft.rfftfreq(n, 1 / rate)
    edge = np.clip((f / highest - 1.1) / 0.35, 0, 1)
    made = np.roll(np.fft.irfft(0.5 + 0.5 * np.cos(np.pi * edge), n), taps // 2)[:taps]
    return np.asarray(made * np.hanning(taps + 2)[1:-1] ** 0.25)


@dataclass(frozen=True)
class ChainModel:
    """What a probe run leaves behind for those who watch the chain."""

    roles: tuple[str, ...]
    """Channels of `plant`, control points first"""
    plant: LoopResponse
    controls: int
    highest: float
    """Hz driven"""
    tonal: bool

    def watch(self, rate: float, block: int) -> ChainWatch:
        """A watch over all of its channels."""
        return ChainWatch(self.plant, rate, block, self.highest, range(len(self.roles)), self.tonal)


def chain_model(
    plant: LoopResponse, roles: Sequence[str], controls: int, band: tuple[float, float], tonal: bool
) -> ChainModel:
    """The control points and their best witnesses, three at most: those that follow the drive most clearly in the
    band. `roles` of the plant's channels."""
    inside = (plant.frequency >= band[0]) & (plant.frequency <= band[1])
    clear = np.mean(plant.coherence[:, inside], axis=1) if inside.any() else np.zeros(len(roles))
    others = sorted(range(controls, len(roles)), key=lambda i: -clear[i])
    rows = [*range(controls), *sorted(i for i in others[:3] if clear[i] > 0.6)]
    return ChainModel(tuple(roles[i] for i in rows), plant.rows(rows), controls, band[1], tonal)


def changes(
    model: ChainModel, load: Callable[[int, int], Floats], start: int, stop: int, rate: float, block: int
) -> list[tuple[float, Changed]]:
    """Every change that a record shows between two samples: when [s], and what. `load(a, b)` gives the model's
    channels and the drive [V], (channels + 1, b − a). One entry a channel, the first."""
    watch = model.watch(rate, block)
    made: list[tuple[float, Changed]] = []
    for a in range(start, stop - block + 1, block):
        x = load(a, a + block)
        found = watch.feed(x[:-1], x[-1])
        if found is not None and all(found.channel != c.channel for _, c in made):
            made.append(((a + block) / rate, found))
    return made
