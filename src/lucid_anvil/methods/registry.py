"""Methods by name, imported when asked for."""

from __future__ import annotations

import difflib
import importlib

from ..core.errors import BadInput
from .base import Method

MODULES = {
    "accelerometer-comparison": "accelerometer_comparison",
    "sine-sweep": "sine_sweep",
    "random-vibration": "random_vibration",
    "time-replication": "time_replication",
    "microphone-level": "microphone_level",
    "impact-response": "impact_response",
    "speed-orders": "speed_orders",
    "amplifier-sheet": "amplifier_sheet",
    "output-offset": "output_offset",
    "output-gain": "output_gain",
    "output-power": "output_power",
    "output-distortion": "output_distortion",
    "output-response": "output_response",
    "output-noise": "output_noise",
    "output-separation": "output_separation",
    "output-intermodulation": "output_intermodulation",
    "output-common-mode": "output_common_mode",
    "output-impedance": "output_impedance",
}


def names() -> list[str]:
    return sorted(MODULES)


def get(name: str) -> Method:
    """The method of that name. Raises BadInput with the nearest known name."""
    if name not in MODULES:
        near = difflib.get_close_matches(name, MODULES, 1, 0.3)
        hint = f"did you mean '{near[0]}'?" if near else f"there are {', '.join(MODULES)}."
        raise BadInput(f"There is no method '{name}'; {hint}")
    return importlib.import_module(f"{__package__}.{MODULES[name]}").METHOD
