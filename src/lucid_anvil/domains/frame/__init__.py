"""The load frame: specimens pulled, pulsed and warmed."""

from ...contracts.domain import Domain

DOMAIN = Domain(
    "frame",
    "Load frame",
    {
        "tension": f"{__name__}.tension",
        "cyclic": f"{__name__}.cyclic",
        "dma": f"{__name__}.dma",
        "frame-compliance": f"{__name__}.blank",
        "frame-phase": f"{__name__}.phase",
    },
    guards={
        "chamber_band": f"{__name__}.chamber_guard:BAND",
        "frame_motion": f"{__name__}.motion_guard:MOTION",
        "strain": f"{__name__}.limit_guards:STRAIN",
        "force_rate": f"{__name__}.limit_guards:FORCE_RATE",
        "length_rate": f"{__name__}.limit_guards:LENGTH_RATE",
    },
    checks={
        "chamber": f"{__name__}.chamber_check:answers",
        "extensometer": f"{__name__}.range_check:in_range",
        "extensometer_pin": f"{__name__}.range_check:moves",
    },
    sides=(
        f"{__name__}.window.bench:FrameBench",
        f"{__name__}.window.pulse_bench:PulseBench",
        f"{__name__}.window.dma_bench:DmaBench",
    ),
    scenes={
        "frame": f"{__name__}.standin:FrameScene",
    },
    faults=("slip", "falls_off", "runaway", "stuck", "breaks"),
    demo=f"{__name__}.demo:make",
)
