"""Modes from an accelerance: frequency and damping by a local rational fit, and the response made anew from them.

Around each peak H(s)·D(s) = N(s) is solved by least squares with D of one or more pole pairs and a numerator that
leaves room for the neighbours (rational fraction polynomials with Sanathanan & Koerner's reweighting, IEEE Trans.
Autom. Control AC-8, 1963). Poles stay right where a record ends before the response does: on the lines of its own
transform what is cut off has the same poles.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .sinefit import Complexes, Floats

SUREST = 0.003
"""Relative standard uncertainty of a response's magnitude below which no line is trusted more than others."""


MOST_HIDDEN = 3
"""Modes without a peak of their own that are looked for."""


MOST = 40
"""Peaks that are looked into: noise alone has hundreds, and each would be fitted for nothing"""


@dataclass(frozen=True)
class Mode:
    """One pole pair."""

    frequency: float
    """Hz, undamped natural"""
    damping: float
    """% of critical"""
    frequency_error: float
    damping_error: float
    """Standard uncertainties from the fit's own scatter, Hz and % of critical"""


@dataclass(frozen=True)
class _Fit:
    poles: Complexes
    """rad/s, upper half plane"""
    error: Floats
    """rad/s, standard uncertainty of each pole (both parts)"""


def _local(s: Complexes, h: Complexes, weight: Floats, pairs: int) -> _Fit | None:
    """Rational fit over a few lines; s [rad/s] scaled about its middle for condition."""
    centre, width = complex(s[s.size // 2]), float(np.abs(s[-1] - s[0])) / 2
    z = (s - centre) / width
    # A complex variable about the middle: one complex pole for each peak; their mirror images are far away and smooth.
    powers = z[:, None] ** np.arange(pairs + 1)
    numerator = z[:, None] ** np.arange(pairs + 2)
    d: Complexes = np.ones(s.size, dtype=np.complex128)
    solved: Complexes = np.zeros(0, dtype=np.complex128)
    matrix: Complexes = np.zeros((0, 0), dtype=np.complex128)
    right: Complexes = np.zeros(0, dtype=np.complex128)
    for _ in range(12):
        scale = weight / np.abs(d)
        matrix = np.asarray(
            np.hstack([-h[:, None] * powers[:, :pairs], numerator]) * scale[:, None], dtype=np.complex128
        )
        right = np.asarray(h * powers[:, pairs] * scale, dtype=np.complex128)
        solved = np.asarray(np.linalg.lstsq(matrix, right, rcond=None)[0], dtype=np.complex128)
        new = np.asarray(powers[:, :pairs] @ solved[:pairs] + powers[:, pairs], dtype=np.complex128)
        if np.max(np.abs(new - d)) < 1e-10 * np.max(np.abs(new)):
            d = new
            break
        d = new
    roots = np.roots(np.concatenate([[1.0], solved[:pairs][::-1]]))
    freedom = max(s.size - solved.size, 1)
    variance = float(np.sum(np.abs(matrix @ solved - right) ** 2)) / freedom
    try:
        covariance = variance * np.linalg.inv(matrix.conj().T @ matrix)
    except np.linalg.LinAlgError:
        return None
    error = []
    for root in roots:
        others = np.prod([root - o for o in roots if o is not root]) if pairs > 1 else 1.0
        slope = -(root ** np.arange(pairs)) / (others or 1e-12)
        error.append(float(np.sqrt(abs(slope.conj() @ covariance[:pairs, :pairs] @ slope))) * width)
    return _Fit(np.asarray(roots * width + centre), np.asarray(error))


def candidates(frequency: Floats, magnitude: Floats, prominence: float = 5.0) -> list[int]:
    """Lines at which a magnitude peaks by `prominence` [dB] over what surrounds it; the `MOST` that stand out most."""
    from scipy.signal import find_peaks

    db = 20 * np.log10(np.maximum(magnitude, 1e-300))
    at, facts = find_peaks(db, prominence=prominence)
    return sorted(int(i) for i in at[np.argsort(-facts["prominences"])[:MOST]])


def half_width(magnitude: Floats, at: int) -> int:
    """Lines from a peak to where its power has fallen to a tenth, on the nearer side."""
    n = 1
    while (
        at - n > 0 and at + n < magnitude.size - 1 and min(magnitude[at - n], magnitude[at + n]) > 0.32 * magnitude[at]
    ):
        n += 1
    return n


def find_modes(
    frequency: Floats, response: Complexes, error: Floats | None = None, *, shift: float = 0.0,
    start: float = 0.0, stop: float = np.inf, most_damping: float = 20.0,
) -> list[Mode]:  # fmt: skip
    """Modes of an accelerance [(m/s²)/N] between `start` and `stop` [Hz], rising. `error`: standard uncertainty of the
    magnitude, relative, as weight. `shift`: 1/τ [1/s] of an exponential window; its damping is taken off. Each peak is
    fitted by itself first, then all together, so that neighbours do not pull at each other. A peak counts when its
    fit stands on its own: above its doubt, narrow enough, and most of what is seen there."""
    magnitude = np.abs(response)
    weights = weights_of(magnitude, error)
    poles: list[complex] = []
    for at in candidates(frequency, magnitude):
        f = float(frequency[at])
        if not start <= f <= stop or (error is not None and error[at] > 0.15):
            continue
        pole = _one_pole(frequency, response, weights, at)
        if all(abs(pole - p) > 0.3 * abs(pole.real) + 0.3 * abs(p.real) for p in poles):
            poles.append(pole)
    used = (frequency > 0) & (frequency <= stop)
    if len(poles) == 0 or used.sum() < 4 * len(poles) + 8:
        return []
    inside = (frequency[used], response[used], weights[used])
    fit = refined(*inside, _with_hidden(*inside, np.array(poles)))
    fit = _sifted(*inside, fit, most_damping)
    modes = [_mode_of(complex(p), float(e), shift) for p, e in zip(fit.poles, fit.error, strict=True)]
    return sorted((m for m in modes if m.damping > 0), key=lambda m: m.frequency)


def _with_hidden(frequency: Floats, response: Complexes, weights: Floats, poles: Complexes) -> Complexes:
    """Poles and those without a peak of their own, hidden in another's flank: each is put where the poles so far leave
    most over, and kept when much of that is explained by it."""
    s = _axis(frequency)
    step = float(frequency[1] - frequency[0])
    scale = weights / float(np.max(weights))
    now = refined(frequency, response, weights, poles)
    for _ in range(MOST_HIDDEN):
        better: Joint | None = None
        for known in (poles, now.poles):
            left = _solve(s, response, scale, known, float(np.abs(s[-1])))[1]
            smooth = np.convolve(np.hypot(left[: s.size], left[s.size :]), np.full(5, 0.2), mode="same")
            at = int(np.argmax(smooth))
            guess = complex(-2 * np.pi * step * max(half_width(smooth, at), 2) / 3, 2 * np.pi * float(frequency[at]))
            made = refined(frequency, response, weights, np.append(known, guess))
            if better is None or made.cost < better.cost:
                better = made
        assert better is not None
        if better.cost > 0.7 * now.cost:
            break
        poles = now.poles
        now = better
    return now.poles


def _sifted(frequency: Floats, response: Complexes, weights: Floats, fit: Joint, most_damping: float) -> Joint:
    """A joint fit from which the poles that do not stand on their own are dropped, the hopeless ones at once."""
    while True:
        width = np.maximum(-fit.poles.real, 1e-9)
        doubt = fit.error / width
        good = (
            (fit.poles.real < 0) & (doubt < 0.2) & (fit.error < 0.02 * fit.poles.imag) & (fit.share > 0.1)
            & (width < most_damping / 100 * np.abs(fit.poles))
        )  # fmt: skip
        if good.all():
            return fit
        hopeless = ~good & ((doubt > 1) | (fit.share < 0.02))
        out = hopeless if hopeless.any() else np.arange(doubt.size) == int(np.argmax(np.where(good, -1.0, doubt)))
        fit = refined(frequency, response, weights, fit.poles[~out])


def weights_of(magnitude: Floats, error: Floats | None) -> Floats:
    """Weights for a fit to a response: the inverse of its standard uncertainty; without one, of its magnitude. The
    uncertainty of a few hits is itself uncertain, so it is taken over neighbouring lines."""
    floor = 1e-3 * float(np.max(magnitude))
    if error is None:
        return np.asarray(1 / np.maximum(magnitude, floor))
    around = np.convolve(np.pad(error**2, 4, mode="edge"), np.full(9, 1 / 9), mode="valid")
    return np.asarray(1 / (np.maximum(np.sqrt(around), SUREST) * np.maximum(magnitude, floor)))


def _mode_of(pole: complex, error: float, shift: float) -> Mode:
    sigma = -pole.real - shift
    omega = abs(complex(sigma, pole.imag))
    return Mode(omega / (2 * np.pi), 100 * sigma / omega, error / (2 * np.pi), 100 * error / omega)


def _axis(frequency: Floats) -> Complexes:
    """s [rad/s] of frequencies [Hz]."""
    return np.asarray(2j * np.pi * frequency, dtype=np.complex128)


def _basis(s: Complexes, poles: Complexes, top: float) -> Complexes:
    """Rows (2·poles + 3, lines): two terms a mode, and 1, s, s² for what lies outside."""
    rows = []
    for p in poles:
        bottom = s**2 - 2 * p.real * s + abs(p) ** 2
        rows += [abs(p) ** 2 / bottom, abs(p) * s / bottom]
    return np.asarray([*rows, np.ones_like(s), s / top, (s / top) ** 2], dtype=np.complex128)


def _solve(s: Complexes, h: Complexes, weights: Floats, poles: Complexes, top: float) -> tuple[Floats, Floats, Floats]:
    """Best real coefficients for given poles; they, the weighted residual (2·lines,) and an orthonormal basis of what
    the model can do, (2·lines, 2·poles + 3)."""
    basis = _basis(s, poles, top) * weights
    spanned, corner = np.linalg.qr(np.hstack([basis.real, basis.imag]).T)
    right = np.concatenate([(h * weights).real, (h * weights).imag])
    along = spanned.T @ right
    size = np.abs(np.diag(corner))
    if size.min() > 1e-13 * size.max():
        solved = np.linalg.solve(corner, along)
    else:
        solved = np.linalg.lstsq(corner, along, rcond=1e-12)[0]
    return solved, right - spanned @ along, spanned


@dataclass(frozen=True)
class Joint:
    """All poles fitted together."""

    poles: Complexes
    """rad/s, upper half plane"""
    error: Floats
    """rad/s, standard uncertainty of each"""
    share: Floats
    """Share that each mode has in the response at its own peak"""
    cost: float
    left: Floats
    """(2·lines,) weighted residual, real parts first"""


def refined(frequency: Floats, response: Complexes, weights: Floats, poles: Complexes) -> Joint:
    """All poles [rad/s, upper half plane] fitted together by damped Gauss-Newton steps, the linear coefficients
    projected out (Golub & Pereyra, SIAM J. Numer. Anal. 10, 1973)."""
    s = _axis(frequency)
    top = float(np.abs(s[-1]))
    poles = np.asarray(poles, dtype=complex)
    scale = weights / float(np.max(weights))
    solved, left, spanned = _solve(s, response, scale, poles, top)
    cost, damp = float(left @ left), 1e-3
    for _ in range(25 if poles.size else 0):
        slopes = _slopes(s, scale, poles, top, solved, spanned)
        gram = slopes @ slopes.T
        step = np.linalg.lstsq(gram + damp * np.diag(np.diag(gram)), slopes @ left, rcond=None)[0]
        new = poles + step[::2] + 1j * step[1::2]
        if np.all(new.real < 0) and np.all(new.imag > 0):
            made = _solve(s, response, scale, new, top)
            now = float(made[1] @ made[1])
            if now < cost:
                done = cost - now < 1e-8 * cost
                poles, (solved, left, spanned), cost, damp = new, made, now, damp / 10
                if done:
                    break
                continue
        damp *= 10
        if damp > 1e6:
            break
    if not poles.size:
        return Joint(poles, np.zeros(0), np.zeros(0), cost, left)
    slopes = _slopes(s, scale, poles, top, solved, spanned)
    covariance = np.linalg.pinv(slopes @ slopes.T) * cost / max(left.size - 4 * poles.size - 3, 1)
    errors = np.sqrt(np.abs(np.diag(covariance)))
    share = []
    for i, p in enumerate(poles):
        at = int(np.argmin(np.abs(s.imag - p.imag)))
        rows = _basis(s[at : at + 1], poles[i : i + 1], top)[:2, 0]
        share.append(float(abs(solved[2 * i : 2 * i + 2] @ rows) / max(abs(response[at]), 1e-300)))
    return Joint(poles, np.maximum(errors[::2], errors[1::2]), np.asarray(share), cost, left)


def _slopes(s: Complexes, weights: Floats, poles: Complexes, top: float, solved: Floats, spanned: Floats
            ) -> Floats:  # fmt: skip
    """Derivative of the model by each pole's two parts, what the basis itself can do taken off; (2·poles, 2·lines)."""
    rows = []
    for i, p in enumerate(poles):
        c0, c1 = solved[2 * i], solved[2 * i + 1]
        r = abs(p)
        bottom = s**2 - 2 * p.real * s + r**2
        top_now = c0 * r**2 + c1 * r * s
        for dr, dsigma in ((p.real / r, 1.0), (p.imag / r, 0.0)):
            d = (2 * c0 * r * dr + c1 * dr * s) / bottom - top_now * (2 * r * dr - 2 * dsigma * s) / bottom**2
            rows.append(np.concatenate([(d * weights).real, (d * weights).imag]))
    made = np.array(rows)
    return np.asarray(made - (made @ spanned) @ spanned.T)


def _one_pole(frequency: Floats, response: Complexes, weights: Floats, at: int) -> complex:
    """Pole [rad/s] of the peak at a line: local fits over bands of several widths with one to three poles, the surest
    one kept; from the peak's width where none is sure."""
    reach = half_width(np.abs(response), at)
    step = float(frequency[1] - frequency[0])
    best = (0.2, complex(-2 * np.pi * reach * step / 3, 2 * np.pi * float(frequency[at])))
    for pairs in (1, 2, 3):
        for wide in (1.5, 2.5, 4.0):
            n = max(int(round(wide * reach)), 2 * pairs + 3)
            a, b = max(at - n, 1), min(at + n + 1, frequency.size)
            if b - a < 2 * pairs + 4:
                continue
            fit = _local(_axis(frequency[a:b]), response[a:b], weights[a:b] / np.max(weights[a:b]), pairs)
            if fit is None:
                continue
            i = int(np.argmin(np.abs(fit.poles.imag - 2 * np.pi * frequency[at])))
            pole = complex(fit.poles[i])
            if pole.real >= 0 or abs(pole.imag / (2 * np.pi) - frequency[at]) > max(2, 0.5 * reach) * step:
                continue
            score = float(fit.error[i]) / max(-pole.real, 1e-9)
            if score < best[0]:
                best = (score, pole)
    return best[1]


def without_window(frequency: Floats, response: Complexes, modes: list[Mode], shift: float,
                   error: Floats | None = None, stop: float = np.inf) -> Complexes:  # fmt: skip
    """A response that was estimated under an exponential window (s = jω + shift) made anew without it (s = jω): the
    modes' share is moved to the axis, what the modes leave over stays as it was measured. The poles given are those
    without the window."""
    if not modes or shift <= 0:
        return response
    used = (frequency > 0) & (frequency <= stop)
    weights = weights_of(np.abs(response), error)
    poles = np.array(
        [2 * np.pi * m.frequency * complex(-m.damping / 100, np.sqrt(1 - (m.damping / 100) ** 2)) for m in modes]
    )
    s = _axis(frequency)
    top = float(np.abs(s[-1]))
    solved, _, _ = _solve(s[used] + shift, response[used], weights[used] / np.max(weights[used]), poles, top)
    modal = solved[: 2 * poles.size]
    change = modal @ (_basis(s, poles, top)[: 2 * poles.size] - _basis(s + shift, poles, top)[: 2 * poles.size])
    return np.asarray(response + np.where(frequency > 0, change, 0.0))
