"""Kinds of table files: one module a kind, behind one registry."""

from rilievo.core.table.writers.table_writer import WRITERS, TableWriter, table_writer, writer_for

__all__ = ["WRITERS", "TableWriter", "table_writer", "writer_for"]

WRITERS.discover()
