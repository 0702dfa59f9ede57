"""Alembic's entry: one connection, one upgrade."""

from alembic import context
from sqlalchemy import create_engine

engine = create_engine(context.config.get_main_option("sqlalchemy.url") or "")
with engine.connect() as link:
    context.configure(connection=link)
    with context.begin_transaction():
        context.run_migrations()
