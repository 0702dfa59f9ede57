"""Margins of a shaker run while it goes on, and its result afterwards."""

from __future__ import annotations

import math
from typing import Any

from ....core.figures import significant
from ....desktop.parts.panels import Row
from ....desktop.parts.widgets import three
from ....engine.preparing import Prepared
from ....protocol.messages import Board

STAGES = {
    "probe": "probe run", "start-up": "starting up", "sweep": "sweeping", "held": "held", "dwell": "dwelling",
    "follow": "following the resonance", "random": "random", "level": "changing level", "history": "playing the record",
    "pause": "pause", "asking": "waiting for you",
}  # fmt: skip


def head_of(board: Board) -> str:
    """What is going on, in few words."""
    live = board.live
    word = STAGES.get(live.get("stage", ""), board.state)
    level = live.get("level_db")
    if level is not None and live.get("stage") not in ("probe", "pause", "asking"):
        word += f" · {level:+.1f} dB".replace("-", "−")
    return word


def shaker_rows(board: Board, prepared: Prepared) -> list[Row]:
    """Margins: what is being controlled, against its allowance."""
    live = board.live
    name = prepared.method.name
    if name == "sine-sweep":
        return _sine_rows(live, prepared)
    if name == "random-vibration":
        return _random_rows(live)
    return _history_rows(live)


def _sine_rows(live: dict[str, Any], prepared: Prepared) -> list[Row]:
    if "control" not in live:
        return []
    import numpy as np

    from ..settings import with_tolerance

    f, target = live["f"], live["target"]
    held, _ = with_tolerance(prepared.settings.sine())
    profile = held.solved()
    f_in = float(np.clip(f, profile.start, profile.stop))
    low, high = profile.edges(np.array([f_in]), "tolerance")
    error = 20 * math.log10(max(live["control"], 1e-9) / max(target, 1e-9))
    at = float(profile.acceleration(f_in))
    edge = 20 * math.log10(high[0] / at) if error > 0 else -20 * math.log10(max(low[0], 1e-9) / at)
    used, full = abs(error) / max(edge, 1e-6), prepared.facts.source_range
    said = "plain" if live.get("stage") == "start-up" else "inside" if used <= 1 else "outside"
    rows: list[Row] = [
        ("Level", f"{three(live['control'])} m/s² · {error:+.2f} dB".replace("-", "−"), used, 0.0, said, ""),
        ("Drive", f"{live['drive']:.3g} of {full:g} V", live["drive"] / full, 0.0, "inside", ""),
    ]  # fmt: skip
    others = [r for r in prepared.facts.sensitivity if r not in prepared.control()["roles"]]
    for role, value in zip(others, live.get("responses", []), strict=False):
        rows.append(
            (
                role.capitalize(),
                f"{three(value)} m/s² · {three(value / max(live['control'], 1e-9))} ×",
                None,
                0.0,
                "plain",
                "",
            )
        )
    if "phase_error" in live:
        off = live["phase_error"]
        rows.append(
            (
                "Phase held",
                f"{off:+.1f}° of ±3".replace("-", "−"),
                abs(off) / 3,
                0.0,
                "inside" if abs(off) <= 3 else "outside",
                "",
            )
        )
    return rows


def _random_rows(live: dict[str, Any]) -> list[Row]:
    if "rms" not in live:
        return []
    wanted = live["rms_wanted"]
    off = 100 * (live["rms"] / wanted - 1)
    share = live["lines_in"]
    return [
        ("rms", f"{three(live['rms'])} m/s² {off:+.1f} %".replace("-", "−"), abs(off) / 10, 0.0,
         "inside" if abs(off) <= 10 else "outside", ""),
        ("Lines within tolerance", f"{share:.1f} %", (100 - share) / 5, 0.0, "inside" if share >= 95 else "open", ""),
        ("Degrees of freedom", f"{live['dof']:.0f} · lines {live['spacing']:.3g} Hz apart", None, 0.0, "plain", ""),
        ("Kurtosis", f"{live['kurtosis']:.2f}" if live.get("kurtosis") else "–", None, 0.0, "plain", ""),
        ("Stroke, three sigma", f"{significant(1e3 * live['stroke'])} mm pk-pk", None, 0.0, "plain", ""),
        ("Drive", f"{live['drive']:.3g} V rms", None, 0.0, "plain", ""),
    ]  # fmt: skip


def _history_rows(live: dict[str, Any]) -> list[Row]:
    rows: list[Row] = []
    if live.get("stage") == "history":
        rows.append(("Pass", f"{live.get('pass', 1)}", None, 0.0, "plain", ""))
    g = live.get("figures")
    if g:
        rows += [
            ("Error of the last pass", f"{significant(g['rms_error'])} % rms", g["rms_error"] / 10, 0.0,
             "inside" if g["rms_error"] <= 10 else "outside", ""),
            ("Peak", f"{g['peak_error']:+.1f} %".replace("-", "−"), abs(g["peak_error"]) / 10, 0.0, "inside", ""),
            ("Spectrum", f"{significant(g['spectrum_error'])} dB", g["spectrum_error"] / 3, 0.0, "inside", ""),
        ]  # fmt: skip
    return rows
