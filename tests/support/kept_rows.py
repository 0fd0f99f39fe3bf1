"""The demo's rows kept beside the database of the tests, so that they are put back without leaving the engine."""

import atexit
import os
import shutil
import sqlite3
import tempfile
from contextlib import contextmanager

from django.db import OperationalError, connection

FILE = os.path.join(tempfile.mkdtemp(), "demo.sqlite3")
atexit.register(shutil.rmtree, os.path.dirname(FILE), ignore_errors=True)


def attach(opened):
    """Let a connection that was just opened reach what is kept, and empty the database within a test's transaction."""
    if opened.vendor == "sqlite":
        opened.connection.execute("ATTACH DATABASE ? AS kept", (FILE,))
        return
    flush = opened.ops.execute_sql_flush

    def flush_within(statements):
        with opened.cursor() as cursor:
            cursor.execute("SET CONSTRAINTS ALL IMMEDIATE")
            flush(statements)
            cursor.execute("SET CONSTRAINTS ALL DEFERRED")

    opened.ops.execute_sql_flush = flush_within if flush.__name__ != "flush_within" else flush


@contextmanager
def somebody_else_writing():
    """Another connection has a write transaction inside; raises OperationalError where it is not given one at once."""
    other = connection.copy()
    patience = {"timeout": 0.05} if other.vendor == "sqlite" else {"options": "-c lock_timeout=50"}
    other.settings_dict["OPTIONS"] |= patience
    try:
        other.set_autocommit(False, force_begin_transaction_with_broken_autocommit=True)
        yield
    finally:
        other.close()


def somebody_else_can_write():
    """Whether another connection is given a write transaction at once."""
    try:
        with somebody_else_writing():
            return True
    except OperationalError:
        return False


def be_impatient():
    """Wait for others only 300 ms."""
    with connection.cursor() as cursor:
        cursor.execute("PRAGMA busy_timeout = 300" if connection.vendor == "sqlite" else "SET lock_timeout = 300")


def write(made):
    """Keep rows by table, given with the number of their columns; no transaction may hold the database."""
    if connection.vendor == "sqlite":
        with sqlite3.connect(FILE) as kept:
            for name, (width, rows) in made.items():
                kept.execute(f"CREATE TABLE {name} ({', '.join(f'c{place}' for place in range(width))})")
                kept.executemany(f"INSERT INTO {name} VALUES ({', '.join(['?'] * width)})", rows)
        kept.close()
        return
    with connection.cursor() as cursor:
        cursor.execute("CREATE SCHEMA kept")
        for name, (width, rows) in made.items():
            cursor.execute(f"CREATE TABLE kept.{name} (LIKE public.{name})")
            cursor.executemany(f"INSERT INTO kept.{name} VALUES ({', '.join(['%s'] * width)})", rows)


def replace(tables, with_kept):
    """Within a transaction: empty the tables and fill them with the kept rows, or leave them empty, their numbers begun anew."""
    with connection.cursor() as cursor:
        if connection.vendor == "sqlite":
            cursor.execute("PRAGMA defer_foreign_keys = ON")
            cursor.executemany("DELETE FROM main.sqlite_sequence WHERE name = %s", [(name,) for name in tables])
        schema = "main" if connection.vendor == "sqlite" else "public"
        for name in tables:
            cursor.execute(f"DELETE FROM {schema}.{name}")
            if with_kept:
                cursor.execute(f"INSERT INTO {schema}.{name} SELECT * FROM kept.{name}")
        if connection.vendor == "sqlite":
            return
        for name in tables:
            cursor.execute("SELECT pg_get_serial_sequence(%s, column_name) FROM information_schema.columns"
                           " WHERE table_name = %s AND column_name = 'id' AND table_schema = 'public'", [name, name])  # fmt: skip
            for (sequence,) in cursor.fetchall():
                cursor.execute(f"SELECT setval(%s, COALESCE(MAX(id), 0) + 1, false) FROM public.{name}", [sequence])
