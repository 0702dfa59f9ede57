"""The ledger: sensors, their calibrations (appended, never edited), and which takes rest on them."""

from __future__ import annotations

import contextlib
import datetime
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import sqlalchemy as sa

from ..core.errors import BadInput

NUMBERING = 8_021_967_403
"""Lock of the database under which certificates are numbered"""
HEAD = "0003"
"""The newest migration; alembic is only imported when a ledger is behind it."""
metadata = sa.MetaData()

sensors = sa.Table(
    "sensor",
    metadata,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("serial", sa.String(60), nullable=False, unique=True),
    sa.Column("kind", sa.String(40), nullable=False),
    sa.Column("maker", sa.String(80), nullable=False, server_default=""),
    sa.Column("model", sa.String(80), nullable=False, server_default=""),
    sa.Column("nominal", sa.Float),
    sa.Column("unit", sa.String(30), nullable=False),
    sa.Column("use", sa.String(40), nullable=False, server_default="working"),
    sa.Column("interval_months", sa.Integer),
    sa.Column("tolerance", sa.Float),
    sa.Column("transverse", sa.Float),
    sa.Column("owner", sa.String(80), nullable=False, server_default=""),
    sa.Column("note", sa.Text, nullable=False, server_default=""),
    sa.Column("retired", sa.Date),
)
changes = sa.Table(
    "sensor_change",
    metadata,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("sensor_id", sa.Integer, sa.ForeignKey("sensor.id"), nullable=False, index=True),
    sa.Column("at", sa.DateTime, nullable=False),
    sa.Column("by", sa.String(40), nullable=False),
    sa.Column("was", sa.JSON, nullable=False),
    sa.Column("why", sa.Text, nullable=False, server_default=""),
)
calibrations = sa.Table(
    "calibration",
    metadata,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("sensor_id", sa.Integer, sa.ForeignKey("sensor.id"), nullable=False, index=True),
    sa.Column("date", sa.Date, nullable=False),
    sa.Column("as_state", sa.String(20), nullable=False),
    sa.Column("sensitivity", sa.Float, nullable=False),
    sa.Column("unit", sa.String(30), nullable=False),
    sa.Column("frequency", sa.Float),
    sa.Column("uncertainty", sa.Float),
    sa.Column("certificate", sa.String(60), nullable=False, server_default=""),
    sa.Column("lab", sa.String(80), nullable=False, server_default=""),
    sa.Column("due", sa.Date),
    sa.Column("verdict", sa.String(10), nullable=False, server_default="none"),
    sa.Column("take", sa.String(300), nullable=False, server_default=""),
    sa.Column("by", sa.String(40), nullable=False, server_default=""),
    sa.Column("temperature", sa.Float),
    sa.Column("points", sa.JSON),
)
reliances = sa.Table(
    "reliance",
    metadata,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("take", sa.String(300), nullable=False, index=True),
    sa.Column("sensor_id", sa.Integer, sa.ForeignKey("sensor.id"), nullable=False, index=True),
    sa.Column("role", sa.String(40), nullable=False),
    sa.Column("certificate", sa.String(60), nullable=False, server_default=""),
    sa.Column("at", sa.DateTime, nullable=False),
)
certificates = sa.Table(
    "certificate",
    metadata,
    sa.Column("number", sa.String(60), primary_key=True),
    sa.Column("at", sa.DateTime, nullable=False),
)


@dataclass(frozen=True)
class Sensor:
    """A sensor's identity. `nominal` in `unit`; `tolerance` % of nominal; `transverse` %."""

    serial: str
    kind: str
    maker: str = ""
    model: str = ""
    nominal: float | None = None
    unit: str = "mV/(m/s²)"
    use: str = "working"
    """reference or working"""
    interval_months: int | None = 12
    tolerance: float | None = None
    transverse: float | None = None
    owner: str = ""
    note: str = ""
    retired: datetime.date | None = None
    """From when on nothing new may rest on it"""


@dataclass(frozen=True)
class Change:
    """A change of a sensor's entry: who, when, and what stood there before."""

    at: datetime.datetime
    by: str
    was: dict[str, Any]
    why: str


@dataclass(frozen=True)
class Calibration:
    """One calibration. `uncertainty` % expanded; `points` rows of [Hz, sensitivity, expanded %]; of a sensor
    that is calibrated step by step of [N or Pa, sensitivity, expanded %] and no `frequency`; in mV/V what it gives."""

    date: datetime.date
    sensitivity: float
    unit: str = "mV/(m/s²)"
    as_state: str = "as found"
    frequency: float | None = 160.0
    uncertainty: float | None = None
    certificate: str = ""
    lab: str = ""
    due: datetime.date | None = None
    verdict: str = "none"
    take: str = ""
    by: str = ""
    temperature: float | None = None
    points: Sequence[Sequence[float]] | None = None


@dataclass(frozen=True)
class Entry:
    """A sensor with its history, oldest first."""

    sensor: Sensor
    history: tuple[Calibration, ...]

    @property
    def last(self) -> Calibration | None:
        return self.history[-1] if self.history else None

    @property
    def due(self) -> datetime.date | None:
        return self.last.due if self.last else None

    def days_left(self, today: datetime.date) -> int | None:
        """Days until due, negative when overdue; None where nothing is due."""
        return (self.due - today).days if self.due else None

    @property
    def drift(self) -> float | None:
        """% from first to last calibration."""
        if len(self.history) < 2:
            return None
        return 100 * (self.history[-1].sensitivity / self.history[0].sensitivity - 1)

    def yearly_drift(self) -> float:
        """% a year, the largest seen between neighbouring calibrations (0 when there are none)."""
        steps = [
            abs(b.sensitivity / a.sensitivity - 1) * 100 * 365.25 / max((b.date - a.date).days, 90)
            for a, b in zip(self.history, self.history[1:], strict=False)
        ]
        return max(steps, default=0.0)


class Ledger:
    """One ledger behind a database URL. Raises BadInput where what is asked for is not there."""

    def __init__(self, url: str) -> None:
        self.url = url
        try:
            self.place = sa.engine.make_url(url)
            self.engine = sa.create_engine(self.place)
        except (sa.exc.ArgumentError, ValueError):
            raise BadInput("ledger: its address is not one of a database: mend it in lab.yaml.") from None
        except ModuleNotFoundError as problem:
            raise BadInput(
                f"{self.place.render_as_string()}: the package '{problem.name}' that speaks to this database is not"
                " installed: install it."
            ) from None
        with self._said():
            self._migrate()

    @contextlib.contextmanager
    def _said(self) -> Iterator[None]:
        """A database's trouble in one sentence, and no password in it."""
        try:
            yield
        except sa.exc.IntegrityError:
            raise BadInput("The ledger refused it: somebody entered the same at this moment; look again.") from None
        except sa.exc.SQLAlchemyError as problem:
            if type(problem) is sa.exc.DatabaseError:
                raise BadInput(f"{self.place.render_as_string()}: this is not a ledger ({problem.orig}).") from None
            why = " ".join(str(getattr(problem, "orig", None) or problem).split())
            if self.place.password:
                why = why.replace(str(self.place.password), "***")
            shown = self.place.render_as_string(hide_password=True)
            raise BadInput(f"{shown}: the ledger can't be used now ({why[:200]}): is it there, and free?") from None

    @contextlib.contextmanager
    def _begin(self) -> Iterator[sa.Connection]:
        with self._said(), self.engine.begin() as link:
            yield link

    @contextlib.contextmanager
    def _connect(self) -> Iterator[sa.Connection]:
        with self._said(), self.engine.connect() as link:
            yield link

    def _migrate(self) -> None:
        """Bring the tables up to date; quick when they are."""
        with self.engine.connect() as link:
            if sa.inspect(link).has_table("alembic_version"):
                version = link.execute(sa.text("select version_num from alembic_version")).scalar()
                if version == HEAD:
                    return
        from alembic import command
        from alembic.config import Config

        config = Config()
        config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
        config.set_main_option("sqlalchemy.url", self.url.replace("%", "%%"))
        command.upgrade(config, "head")

    def close(self) -> None:
        self.engine.dispose()

    def add(self, sensor: Sensor) -> None:
        """Enter a new sensor."""
        with self._begin() as link:
            if self._id(link, sensor.serial, missing_ok=True) is not None:
                raise BadInput(f"The ledger has a sensor '{sensor.serial}' already: a serial number stands once.")
            link.execute(sensors.insert().values(**vars(sensor)))

    def change(self, serial: str, by: str, why: str = "", **values: Any) -> Sensor:
        """Change a sensor's entry; what stood there before is kept with who changed it and when. Its serial number
        and its calibrations stay. The sensor as it is now."""
        if not by.strip():
            raise BadInput("Say who changes it: initials.")
        known = [f for f in Sensor.__dataclass_fields__ if f != "serial"]
        for key in values:
            if key not in known:
                raise BadInput(f"A sensor has no '{key}' that could be changed: {', '.join(known)}.")
        with self._begin() as link:
            sensor = self._id(link, serial)
            row = link.execute(sensors.select().where(sensors.c.id == sensor)).mappings().one()
            was = {k: row[k] for k, v in values.items() if row[k] != v}
            if was:
                kept = {k: v.isoformat() if isinstance(v, datetime.date) else v for k, v in was.items()}
                told = {"at": datetime.datetime.now(), "by": by.strip(), "was": kept, "why": why.strip()}
                link.execute(changes.insert().values(sensor_id=sensor, **told))
                link.execute(sensors.update().where(sensors.c.id == sensor).values(**{k: values[k] for k in was}))
        return self.entry(serial).sensor

    def retire(self, serial: str, by: str, why: str, on: datetime.date) -> Sensor:
        """From a day on nothing new may rest on a sensor; what rests on it stays as it is."""
        if not why.strip():
            raise BadInput(f"{serial}: say why it is retired: it is asked about later.")
        return self.change(serial, by, why, retired=on)

    def changes(self, serial: str) -> list[Change]:
        """What was changed of a sensor's entry, newest first."""
        return self.all_changes().get(serial, [])

    def all_changes(self) -> dict[str, list[Change]]:
        """What was changed of every sensor's entry, newest first, by serial number."""
        query = sa.select(sensors.c.serial, changes).join(sensors, sensors.c.id == changes.c.sensor_id)
        with self._connect() as link:
            rows = link.execute(query.order_by(changes.c.id.desc())).mappings().all()
        made: dict[str, list[Change]] = {}
        for r in rows:
            made.setdefault(r["serial"], []).append(Change(r["at"], r["by"], dict(r["was"]), r["why"]))
        return made

    def append(self, serial: str, calibration: Calibration) -> None:
        """Append a calibration; none is ever changed or taken away."""
        if not calibration.sensitivity > 0:
            raise BadInput(f"{serial}: a sensitivity must be above zero.")
        with self._begin() as link:
            sensor = self._id(link, serial)
            link.execute(calibrations.insert().values(sensor_id=sensor, **vars(calibration)))

    def accept(self, serial: str, calibration: Calibration, start: str) -> str:
        """Append a calibration under the next certificate number that begins with `start`, in one transaction: no two
        ever have one number. The number."""
        with self._said(), self.engine.connect() as link:
            # Who would number too waits until this one is done.
            if self.place.get_backend_name() == "sqlite":
                link.exec_driver_sql("begin immediate")
            elif self.place.get_backend_name() == "postgresql":
                link.execute(sa.text("select pg_advisory_xact_lock(:key)"), {"key": NUMBERING})
            number = self._next_number(link, start)
            link.execute(certificates.insert().values(number=number, at=datetime.datetime.now()))
            sensor = self._id(link, serial)
            values = {**vars(calibration), "certificate": number}
            link.execute(calibrations.insert().values(sensor_id=sensor, **values))
            link.commit()
            return number

    def next_number(self, start: str) -> str:
        """The number that would come next."""
        with self._connect() as link:
            return self._next_number(link, start)

    def _next_number(self, link: sa.Connection, start: str) -> str:
        used = [*link.execute(sa.select(calibrations.c.certificate).where(calibrations.c.certificate.startswith(start)))
                .scalars(), *link.execute(sa.select(certificates.c.number)).scalars()]  # fmt: skip
        numbers = [int(c[len(start) :]) for c in used if c.startswith(start) and c[len(start) :].isdigit()]
        return f"{start}{max(numbers, default=0) + 1:04d}"

    def rests_on(self, take: str, serial: str, role: str, certificate: str | None) -> bool:
        """Note that a take rests on a sensor, once; one that the ledger does not know is left out. True: it was
        noted."""
        with self._begin() as link:
            sensor = self._id(link, serial, missing_ok=True)
            if sensor is None:
                return False
            known = sa.select(reliances.c.id).where(
                reliances.c.take == take, reliances.c.sensor_id == sensor, reliances.c.role == role
            )
            if link.execute(known).first() is not None:
                return False
            link.execute(
                reliances.insert().values(
                    take=take, sensor_id=sensor, role=role, certificate=certificate or "",
                    at=datetime.datetime.now(),
                )
            )  # fmt: skip
        return True

    def entry(self, serial: str) -> Entry:
        """One sensor and its history."""
        for entry in self.entries():
            if entry.sensor.serial == serial:
                return entry
        import difflib

        known = [e.sensor.serial for e in self.entries()]
        near = difflib.get_close_matches(serial, known, 1, 0.4)
        hint = f"did you mean '{near[0]}'?" if near else "see `ledger list`."
        raise BadInput(f"The ledger has no sensor '{serial}'; {hint}")

    def entries(self) -> list[Entry]:
        """All sensors, by serial number."""
        with self._connect() as link:
            rows = link.execute(sensors.select().order_by(sensors.c.serial)).mappings().all()
            held = link.execute(calibrations.select().order_by(calibrations.c.date, calibrations.c.id)).mappings().all()
        by_sensor: dict[int, list[Calibration]] = {}
        for c in held:
            values = {k: c[k] for k in Calibration.__dataclass_fields__}
            by_sensor.setdefault(c["sensor_id"], []).append(Calibration(**values))
        return [
            Entry(Sensor(**{k: r[k] for k in Sensor.__dataclass_fields__}), tuple(by_sensor.get(r["id"], ())))
            for r in rows
        ]

    def due(self, today: datetime.date, within_days: int = 60) -> list[Entry]:
        """Due within some days or overdue, soonest first."""
        found = [e for e in self.entries() if e.due and (e.due - today).days <= within_days]
        return sorted(found, key=lambda e: e.due or today)

    def traces(self, serial: str) -> list[dict[str, Any]]:
        """Takes that rest on a sensor, newest first."""
        with self._connect() as link:
            self._id(link, serial)
        return self.all_traces(serial).get(serial, [])

    def all_traces(self, serial: str | None = None) -> dict[str, list[dict[str, Any]]]:
        """Takes by the sensor that they rest on, newest first."""
        query = sa.select(sensors.c.serial, reliances).join(sensors, sensors.c.id == reliances.c.sensor_id)
        if serial is not None:
            query = query.where(sensors.c.serial == serial)
        with self._connect() as link:
            rows = link.execute(query.order_by(reliances.c.id.desc())).mappings().all()
        made: dict[str, list[dict[str, Any]]] = {}
        for r in rows:
            made.setdefault(r["serial"], []).append({k: r[k] for k in ("take", "role", "certificate", "at")})
        return made

    def _id(self, link: sa.Connection, serial: str, missing_ok: bool = False) -> int | None:
        found = link.execute(sa.select(sensors.c.id).where(sensors.c.serial == serial)).scalar()
        if found is None and not missing_ok:
            raise BadInput(f"The ledger has no sensor '{serial}'; see `ledger list`.")
        return found
