"""The book's columns in one file beside the database, which every worker maps at its start instead of reading all rows.

8 bytes of MAGIC, the length of the header in 8 more, the header (JSON), then each column at a multiple of 64 bytes. The file
is written as a whole and renamed over the old one, which lives on for those who have mapped it. It is a memory of the
database and nothing else: where anything speaks against it, it is left alone and the rows are read.
"""

import json
import logging
import mmap
import os
import struct
import zlib
from dataclasses import fields
from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings
from django.db import connection

from wise_tally.book import rows
from wise_tally.book.attributes import StoredAttributes
from wise_tally.book.stored_book import Counters, StoredBook, renumbered
from wise_tally.core.book import Book, Credits, Deals, Revisions
from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.file_lock import alone

MAGIC = b"WTBOOK01"
PARTS = {"deals": Deals, "revisions": Revisions, "credits": Credits}
NAMES = [f"{part}.{field.name}" for part, of in PARTS.items() for field in fields(of)]
HEADER = {"asked", "answered", "counters", "last_revision", "deal_types", "sources", "columns", "end", "checksum"}
"""A file of another version has others, or other columns."""
EDGE = 64
log = logging.getLogger(__name__)


def path() -> Path:
    """Where the file stands: beside the database, of a server's among this machine's data."""
    return Path(settings.WORK_FOLDER, f"{connection.settings_dict['NAME']}.book")


def identity(last_revision: int) -> dict[str, Any]:
    """What tells the history that a book comes from: its last change and revision. Read in the same view as the book."""
    newest = _row("SELECT MAX(id) FROM org_auditentry")[0]
    newest_read = [0 if newest == "None" else int(newest), last_revision]
    return {"asked": newest_read, "answered": _marks(*newest_read)}


def _marks(change: int, revision: int) -> list[list[str]]:
    """What a database of another history has otherwise, as texts: its version, an entry of the audit, a revision.

    Every write leaves an entry, with who and when to the microsecond.
    """
    return [
        _row("SELECT COUNT(*), MAX(app || name) FROM django_migrations"),
        _row("SELECT * FROM org_auditentry WHERE id = %s", change),
        _row("SELECT * FROM deals_dealrevision WHERE id = %s", revision),
    ]


def _row(query: str, *parameters: int) -> list[str]:
    with connection.cursor() as cursor:
        cursor.execute(query, parameters)
        return [str(value) for value in cursor.fetchone() or ()]


def write(stored: StoredBook, known: dict[str, Any], target: Path) -> bool:
    """Write a book with its identity to the file; False where another process is at it or was quicker, or the disk refuses."""
    try:
        with alone(_lock_of(target)) as lock:
            if lock is None or _is_as_new(target, stored):
                return False
            for left in target.parent.glob(f"{target.name}.*.part"):
                left.unlink()
            _write(stored, known, target)
            return True
    except OSError as error:
        log.warning("The book file %s could not be written: %s. Starts take longer without it.", target, error)
        return False


def _lock_of(target: Path) -> Path:
    return target.with_name(f"{target.name}.lock")


def _is_as_new(target: Path, stored: StoredBook) -> bool:
    opened = _opened(target)
    return opened is not None and opened[0]["counters"][2] == stored.epoch and opened[0]["counters"][0] >= stored.number


def _columns(stored: StoredBook) -> dict[str, Any]:
    book = stored.book
    columns = {name: getattr(getattr(book, name.split(".")[0]), name.split(".")[1]) for name in NAMES}
    columns["deals.key"] = np.frombuffer("\0".join(book.deals.key).encode(), dtype=np.uint8)
    return {"numbers": stored.deal_numbers} | {name: np.ascontiguousarray(one) for name, one in columns.items()}


def _write(stored: StoredBook, known: dict[str, Any], target: Path) -> None:
    reference, columns, places, end, checksum = stored.book.reference, _columns(stored), {}, 0, 0
    for name, column in columns.items():
        places[name] = [column.dtype.str, len(column), end]
        end += _padded(column.nbytes)
        checksum = zlib.crc32(column.data, checksum)
    header = {
        **known,
        "counters": [stored.number, stored.reference, stored.epoch, stored.attributes],
        "last_revision": stored.last_revision,
        "deal_types": reference.deal_types,
        "sources": reference.sources,
        "columns": places,
        "end": end,
        "checksum": checksum,
    }
    text = json.dumps(header).encode()
    part = target.with_name(f"{target.name}.{os.getpid()}.part")
    with part.open("wb") as out:
        out.write(MAGIC + struct.pack("<QL", len(text), zlib.crc32(text)) + text)
        begin = _padded(out.tell())
        for name, column in columns.items():
            out.seek(begin + places[name][2])
            out.write(column.data)
        out.truncate(begin + end)
        out.flush()
        os.fsync(out.fileno())
    part.replace(target)


def _padded(size: int) -> int:
    return -(-size // EDGE) * EDGE


def _opened(target: Path) -> tuple[dict[str, Any], dict[str, Any]] | None:
    """The header and the columns of a file that is whole; None without one."""
    try:
        with target.open("rb") as file:
            whole = mmap.mmap(file.fileno(), 0, prot=mmap.PROT_READ, flags=mmap.MAP_SHARED)
    except (OSError, ValueError):
        return None
    if len(whole) < len(MAGIC) + 12 or whole[: len(MAGIC)] != MAGIC:
        return None
    length, checksum = struct.unpack("<QL", whole[len(MAGIC) : len(MAGIC) + 12])
    text = whole[len(MAGIC) + 12 : len(MAGIC) + 12 + length]
    if len(text) != length or zlib.crc32(text) != checksum:
        return None
    header, begin = json.loads(text), _padded(len(MAGIC) + 12 + length)
    if set(header) != HEADER or set(header["columns"]) != {"numbers", *NAMES} or len(whole) != begin + header["end"]:
        return None
    columns, checksum = {}, 0
    for name, (kind, count, offset) in header["columns"].items():
        columns[name] = np.frombuffer(whole, dtype=np.dtype(kind), count=count, offset=begin + offset)
        checksum = zlib.crc32(columns[name].data, checksum)
    return (header, columns) if checksum == header["checksum"] else None


def load(newest: Counters) -> StoredBook | None:
    """The book of the file, of the database's number or an older one; None where it cannot be used. Reads inside one view."""
    opened = _opened(path())
    if opened is None:
        return None
    header, columns = opened
    number, ground, epoch, attributes = header["counters"]
    numbers = columns["numbers"]
    # The database went through the state that the file holds where its last change of then is still there, as it was.
    if epoch != newest[2] or number > newest[0] or _marks(*header["asked"]) != header["answered"]:
        return None
    reference = rows.read_reference()
    deals = _deals(columns, reference, tuple(header["deal_types"]), tuple(header["sources"]))
    revisions = Revisions(*(columns[f"revisions.{field.name}"] for field in fields(Revisions)))
    credits = Credits(*(columns[f"credits.{field.name}"] for field in fields(Credits)))
    if ground != newest[1]:
        credits = rows.read_credits(numbers)
    book = Book(reference, deals, revisions, credits, number, StoredAttributes(numbers))
    return StoredBook(book, number, newest[1], epoch, attributes, numbers, header["last_revision"])


def _deals(
    columns: dict[str, Any], reference: ReferenceData, types: tuple[str, ...], sources: tuple[str, ...]
) -> Deals:
    text = columns["deals.key"].tobytes().decode()
    by_name = {field.name: columns[f"deals.{field.name}"] for field in fields(Deals)}
    by_name["key"] = tuple(text.split("\0")) if len(columns["numbers"]) else ()
    by_name["deal_type"] = renumbered(by_name["deal_type"], types, reference.deal_types)
    by_name["source"] = renumbered(by_name["source"], sources, reference.sources)
    return Deals(**by_name)
