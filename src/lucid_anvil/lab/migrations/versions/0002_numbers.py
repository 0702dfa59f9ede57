"""Certificate numbers that stand once; calibrations that can't be edited on PostgreSQL either."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    op.create_table(
        "certificate",
        sa.Column("number", sa.String(60), primary_key=True),
        sa.Column("at", sa.DateTime, nullable=False),
    )
    if op.get_bind().dialect.name == "postgresql":
        op.execute(
            "create function calibration_kept() returns trigger language plpgsql as $$"
            " begin raise exception 'calibrations are appended, never edited'; end $$"
        )
        op.execute(
            "create trigger calibration_kept before update or delete on calibration"
            " for each row execute function calibration_kept()"
        )
        op.execute(
            "create trigger calibration_not_emptied before truncate on calibration"
            " for each statement execute function calibration_kept()"
        )


def downgrade() -> None:
    raise NotImplementedError("a ledger is not taken back")
