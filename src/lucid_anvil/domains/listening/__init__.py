"""Records that are listened to: calibrator, hammer, run-up and run-down."""

from ...contracts.domain import Domain

DOMAIN = Domain(
    "listening",
    "Listening",
    {
        "microphone-level": f"{__name__}.microphone_level",
        "impact-response": f"{__name__}.impact_response",
        "speed-orders": f"{__name__}.speed_orders",
    },
    sides=(f"{__name__}.window.bench:ListenBench",),
    scenes={
        "plate": f"{__name__}.standin:PlateScene",
        "pump": f"{__name__}.standin:PumpScene",
        "calibrator": f"{__name__}.standin:CalibratorScene",
    },
    demo=f"{__name__}.demo:make",
)
