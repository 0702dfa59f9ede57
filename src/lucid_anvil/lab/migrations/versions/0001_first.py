"""Sensors, calibrations that can't be edited, and what takes rest on."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None


def upgrade() -> None:
    op.create_table(
        "sensor",
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
    )
    op.create_table(
        "calibration",
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
    op.create_table(
        "reliance",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("take", sa.String(300), nullable=False, index=True),
        sa.Column("sensor_id", sa.Integer, sa.ForeignKey("sensor.id"), nullable=False, index=True),
        sa.Column("role", sa.String(40), nullable=False),
        sa.Column("certificate", sa.String(60), nullable=False, server_default=""),
        sa.Column("at", sa.DateTime, nullable=False),
    )
    if op.get_bind().dialect.name == "sqlite":
        for what in ("update", "delete"):
            op.execute(
                f"create trigger calibration_no_{what} before {what} on calibration "
                "begin select raise(abort, 'calibrations are appended, never edited'); end"
            )


def downgrade() -> None:
    raise NotImplementedError("a ledger is not taken back")
