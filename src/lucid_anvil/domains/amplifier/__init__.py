"""Amplifiers: what their output is, and sheets of many steps (IEC 60268-3)."""

from ...contracts.domain import Domain

_OUTPUTS = (
    "offset", "gain", "power", "distortion", "response", "noise", "separation", "intermodulation", "common_mode",
    "impedance",
)  # fmt: skip
DOMAIN = Domain(
    "amplifier",
    "Amplifiers",
    {
        "amplifier-sheet": f"{__name__}.amplifier_sheet",
        **{f"output-{name.replace('_', '-')}": f"{__name__}.output_{name}" for name in _OUTPUTS},
    },
    sides=(f"{__name__}.window.bench:AmplifierBench",),
    scenes={
        "amplifier": f"{__name__}.standin_scene:AmplifierScene",
    },
    demo=f"{__name__}.demo:make",
)
