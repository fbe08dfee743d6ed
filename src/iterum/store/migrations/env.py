"""Runs migrations on the connection that the store hands over."""

from typing import Any

from alembic import context

from iterum.store.tables import Moment, metadata


def render(kind: str, item: Any, _context: Any) -> Any:
    """Migrations stand on their own: our column types are written as what the database sees."""
    return "sa.DateTime()" if kind == "type" and isinstance(item, Moment) else False


connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=metadata, render_as_batch=True, render_item=render)
with context.begin_transaction():
    context.run_migrations()
