"""Series of steps, holds and rundowns: force, pressure, torque, hysteresis."""

from ...contracts.domain import Domain

DOMAIN = Domain(
    "steps",
    "Force, pressure, torque",
    {
        "force-comparison": f"{__name__}.force_comparison",
        "pressure-comparison": f"{__name__}.pressure_comparison",
        "pressure-hold": f"{__name__}.pressure_hold",
        "torque-capability": f"{__name__}.torque_capability",
        "step-hysteresis": f"{__name__}.step_hysteresis",
    },
    checks={"gauge": f"{__name__}.gauge_check:answers"},
    scenes={
        "actuator": f"{__name__}.standin:ActuatorScene",
        "press": f"{__name__}.standin:PressScene",
    },
)
