"""Orders that a face may give to a run: a model each, so that a wrong one is refused before the run sees it."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from ..core.errors import BadInput

Text = Annotated[str, Field(max_length=300)]
Number = Annotated[float, Field(allow_inf_nan=False)]


class Order(BaseModel):
    """An order without anything to it."""

    model_config = ConfigDict(extra="forbid", strict=True)


class Sign(Order):
    key: Text
    by: Text = ""


class Stop(Order):
    why: Text = "stopped by the operator"


class Mark(Order):
    text: Text = "mark"


class Level(Order):
    by: Annotated[float, Field(ge=-40, le=40, allow_inf_nan=False)]
    """dB"""


class Trigger(Order):
    level: Number


class Slope(Order):
    rising: bool


class Overrule(Order):
    number: Annotated[int, Field(ge=1, le=100000)]
    note: Text = ""


class Drive(Order):
    """By hand: only what is given changes."""

    shape: Literal["sine", "noise", "sweep"] | None = None
    frequency: Annotated[float, Field(gt=0, allow_inf_nan=False)] | None = None
    """Hz"""
    to: Annotated[float, Field(gt=0, allow_inf_nan=False)] | None = None
    level: Annotated[float, Field(ge=0, allow_inf_nan=False)] | None = None
    """V peak at the source"""


class Jog(Order):
    """The crosshead of a frame, moved as long as such orders come: the one who gives them holds a key down."""

    speed: Annotated[float, Field(allow_inf_nan=False)] = 0.0
    """m/s, up above zero"""


class Row(Order):
    """What is seen now goes into the log."""

    text: Text = ""
    meter: Text = ""
    """A reading of a meter that no cable reaches, with its unit"""


ORDERS: dict[str, type[Order]] = {
    "sign": Sign, "begin": Order, "stop": Stop, "mark": Mark, "hold": Order, "go": Order, "level": Level,
    "skip": Order, "trigger": Trigger, "slope": Slope, "overrule": Overrule, "replan": Order,
    "drive": Drive, "jog": Jog, "row": Row, "close": Order,
}  # fmt: skip


def order_of(name: str, body: Any) -> dict[str, Any]:
    """An order as plain data, its name as `order`. Raises BadInput with what is wrong with it."""
    model = ORDERS.get(name)
    if model is None:
        raise BadInput(f"There is no order '{name}'; there are {', '.join(ORDERS)}.")
    if not isinstance(body, dict):
        raise BadInput(f"{name}: an object with its keys is wanted.")
    try:
        made = model.model_validate(body)
    except ValidationError as problem:
        first = problem.errors()[0]
        where = ".".join(str(p) for p in first["loc"]) or "body"
        raise BadInput(" ".join(f"{name}: {where}: {first['msg'].lower()}.".split())) from None
    return {"order": name, **made.model_dump()}
