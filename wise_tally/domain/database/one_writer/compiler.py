"""Statements as Django writes them for PostgreSQL, but that nothing comes before something in every order, as in SQLite."""

from typing import Any

from django.db.backends.postgresql import compiler
from django.db.models.expressions import OrderBy

SQLInsertCompiler = compiler.SQLInsertCompiler  # type: ignore[attr-defined]
SQLUpdateCompiler = compiler.SQLUpdateCompiler  # type: ignore[attr-defined]
SQLDeleteCompiler = compiler.SQLDeleteCompiler  # type: ignore[attr-defined]
SQLAggregateCompiler = compiler.SQLAggregateCompiler  # type: ignore[attr-defined]


class SQLCompiler(compiler.SQLCompiler):  # type: ignore[misc,name-defined]
    """A version without a day is the first one: who asks for the last must get the one with a day."""

    def compile(self, node: Any) -> Any:
        """An order says where nothing comes, unless it does so already or its column holds no nothing."""
        if isinstance(node, OrderBy) and not (node.nulls_first or node.nulls_last):
            field = getattr(node.expression, "target", None)
            if field is None or field.null:
                node = node.copy()
                node.nulls_first, node.nulls_last = (None, True) if node.descending else (True, None)
        return super().compile(node)
