"""Sensors that are changed and retired: a note, a date, and who changed what when."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    op.add_column("sensor", sa.Column("note", sa.Text, nullable=False, server_default=""))
    op.add_column("sensor", sa.Column("retired", sa.Date))
    op.create_table(
        "sensor_change",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("sensor_id", sa.Integer, sa.ForeignKey("sensor.id"), nullable=False, index=True),
        sa.Column("at", sa.DateTime, nullable=False),
        sa.Column("by", sa.String(40), nullable=False),
        sa.Column("was", sa.JSON, nullable=False),
        sa.Column("why", sa.Text, nullable=False, server_default=""),
    )


def downgrade() -> None:
    raise NotImplementedError("a ledger is not taken back")
