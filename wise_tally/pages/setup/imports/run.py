"""Carrying an import out: all of a file or, with faults, nothing; progress in a file beside it, undo from its journal."""

import csv
import json
import math
import os
import secrets
import shutil
import subprocess
import sys
import tempfile
import time
import zlib
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from django.conf import settings
from django.db import transaction

from wise_tally.domain.deals.parts import follow_lines
from wise_tally.domain.file_lock import alone
from wise_tally.domain.formats import as_words, plural
from wise_tally.domain.imports.models import ImportRun, ImportStatus
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.book_number import old_rows_changed
from wise_tally.domain.org.clock import now as present
from wise_tally.domain.org.models import Person
from wise_tally.domain.refusals import WriteConflict
from wise_tally.package.faults import PackageRefused
from wise_tally.package.reading import check_package
from wise_tally.pages.setup.imports import journal
from wise_tally.pages.setup.imports.kinds import kind_of
from wise_tally.pages.setup.imports.prepare import Matching, Prepared, Preparer, RowFault
from wise_tally.pages.setup.imports.rehearsal import faults_of_rows, rehearse, write_rows
from wise_tally.web.files.uploads import UploadedTable, read_table
from wise_tally.web.request.measured import IMPORTS

SHOWN_FAULTS = 200
AT_ONCE = 3_000
ENOUGH_TO_TELL = 5
"""Percent done from which the time left can be estimated."""
PARTS = {"reading": 45, "checking": 60, "preparing": 65}


class WithFaults(Exception):
    """The file has faults and nothing was taken."""

    def __init__(self, faults: list[RowFault], more: int) -> None:
        super().__init__(plural(len(faults) + more, "error"))
        self.faults, self.more = faults, more


def folder_of(run: ImportRun) -> Path:
    """Where the run's file, progress and journal stand."""
    return Path(settings.WORK_FOLDER) / "imports" / str(run.pk)


def start_run(
    viewer: Viewer, kind: str, file_name: str, content: bytes, table: UploadedTable, now: datetime
) -> ImportRun:
    """Keep an uploaded file; its columns are matched as they were the last time where the headings are the same."""
    viewer.require(May.IMPORT)
    run = ImportRun.objects.create(
        kind=kind,
        file_name=file_name[-200:],
        at=now,
        person=Person.objects.filter(key=viewer.key).first(),
        header=table.header,
    )
    folder = folder_of(run)
    # A folder of that number can only be left over from a database that is gone.
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    (folder / "source").write_bytes(content)
    audit(viewer, "table sent", f"{kind} from {run.file_name}, {len(table.rows)} rows", now)
    return run


def table_of(run: ImportRun) -> UploadedTable:
    """The run's file as a table."""
    return read_table(run.file_name, (folder_of(run) / "source").read_bytes())


def remembered(run: ImportRun) -> dict[str, object] | None:
    """How the last file with the same headings was matched."""
    earlier = ImportRun.objects.filter(kind=run.kind, pk__lt=run.pk).exclude(matching={}).order_by("-pk")
    return next((one.matching for one in earlier[:50] if one.header == run.header), None)


def begin(run: ImportRun, matching: Matching, rows: int, viewer: Viewer, now: datetime) -> None:
    """Carry a short file out at once, a long one in a process of its own that survives the server."""
    viewer.require(May.IMPORT)
    with alone(_lock_of(run)) as claim:
        open_ones = (ImportStatus.MATCHING, ImportStatus.REFUSED, ImportStatus.RUNNING)
        if claim is None or not ImportRun.objects.filter(pk=run.pk, status__in=open_ones).exists():
            return
        run.matching = {name: getattr(matching, name) for name in Matching.__dataclass_fields__}
        run.status = ImportStatus.RUNNING
        run.save(update_fields=["matching", "status"])
        tell(run, 0, "starting")
        IMPORTS.labels(run.kind).inc()
        if rows <= AT_ONCE:
            carry_out(run, viewer, now)
            return
        command = [sys.executable, "-m", "wise_tally", "run_import", str(run.pk), viewer.key]
        with (folder_of(run) / "log").open("wb") as log:
            subprocess.Popen(
                command,
                stdout=log,
                stderr=log,
                start_new_session=True,
                cwd=settings.ROOT,
                env={**os.environ},
                pass_fds=[claim],
            )


def _lock_of(run: ImportRun) -> Path:
    """Whose lock whoever carries the run out holds."""
    return folder_of(run) / "running"


def tell(run: ImportRun, percent: int, words: str) -> None:
    """Write how far the run is, where others read it without the database."""
    path = folder_of(run) / "progress.json"
    began = time.time() if percent == 0 else progress_of(run).began
    fresh = path.with_suffix(".new")
    fresh.write_text(json.dumps({"percent": percent, "words": words, "began": began}))
    fresh.replace(path)


@dataclass(frozen=True)
class Progress:
    """How far a run is: percent done, what is being done, and when it began (seconds since 1970)."""

    percent: int = 0
    words: str = "starting"
    began: float = 0

    @property
    def minutes_left(self) -> int | None:
        """At the speed so far; None before there is any."""
        if self.percent < ENOUGH_TO_TELL:
            return None
        return math.ceil((time.time() - self.began) * (100 - self.percent) / self.percent / 60)


def progress_of(run: ImportRun) -> Progress:
    """How far the run was at its last report."""
    try:
        return Progress(**json.loads((folder_of(run) / "progress.json").read_text()))
    except (OSError, ValueError, TypeError):
        return Progress()


def is_carried_out(run: ImportRun) -> bool:
    """Whether somebody is at the run."""
    if run.status != ImportStatus.RUNNING or not folder_of(run).is_dir():
        return False
    with alone(_lock_of(run)) as claim:
        return claim is None


def carry_out(run: ImportRun, viewer: Viewer, now: datetime) -> None:
    """Take the file in. What was found stands in the run's report; with faults nothing is taken."""
    matching = Matching(**run.matching)
    try:
        table = table_of(run)
        prepared = Preparer(kind_of(run.kind), matching, now).run(
            table, lambda done: tell(run, 40 * done // max(len(table.rows), 1), f"row {done} of {len(table.rows)}")
        )
        _take(run, prepared, matching, viewer, now)
    except WithFaults as refused:
        _write_faulty(run, table, refused.faults)
        shown, number = [_as_list(f) for f in refused.faults[:SHOWN_FAULTS]], len(refused.faults) + refused.more
        report = {"faults": shown, "count": number}
        ImportRun.objects.filter(pk=run.pk).update(status=ImportStatus.REFUSED, report=report)
        return
    if prepared.faults:
        _write_faulty(run, table, prepared.faults)


def _as_list(fault: RowFault) -> list[object]:
    return [fault.row, fault.column, fault.wrong, fault.right]


def _take(run: ImportRun, prepared: Prepared, matching: Matching, viewer: Viewer, now: datetime) -> None:
    """Read the prepared rows as a package within one journalled transaction, which also says that the run is done.

    Rows with faults that are left out stand in `prepared` afterwards.
    """
    faults, kind = list(prepared.faults), kind_of(run.kind)

    def step(words: str) -> None:
        tell(run, _percent(words), as_words(words))

    while True:
        if faults and not matching.good_rows_only:
            # The table's own checks run at the same time, so that all faults stand in one list.
            tried = rehearse(kind, prepared, matching, now)
            raise WithFaults(tried.faults, tried.more)
        with tempfile.TemporaryDirectory() as name:
            lines = write_rows(Path(name), kind, prepared)
            try:
                checked = check_package(Path(name), step, most=len(prepared.rows))
                with checked.ready(step) as ready, transaction.atomic(), journal.journalling() as before:
                    done = ready.take(now, step)
                    if kind.slug == "deal_lines":
                        follow_lines(viewer, {row["deal_id"] for _, row in prepared.rows}, now)
                    # Each try has a journal of its own: what an interrupted one left says nothing about the next.
                    journal_file = folder_of(run) / f"journal-{secrets.token_hex(4)}.gz"
                    count = journal.keep(journal.written(before), journal_file)
                    prepared.faults = faults
                    words = f"{run.kind} from {run.file_name}: {plural(len(prepared.rows), 'row')}, {count} changed"
                    audit(viewer, "import taken", words, now)
                    report: dict[str, object] = {
                        "rows": done.rows,
                        "changed": count,
                        "notes": done.notes[:20],
                        "journal": journal_file.name,
                    }
                    report |= {"count": len(faults), "faults": [_as_list(f) for f in faults[:SHOWN_FAULTS]]}
                    ImportRun.objects.filter(pk=run.pk).update(status=ImportStatus.DONE, report=report)
                return
            except PackageRefused as refused:
                fresh = faults_of_rows(kind, refused, lines, matching)
                if not matching.good_rows_only:
                    raise WithFaults(fresh, refused.report.more) from refused
                bad = {fault.row for fault in fresh}
                if not bad & {number for number, _ in prepared.rows}:
                    raise WithFaults([*faults, *fresh], refused.report.more) from refused
                faults += fresh
                prepared.rows = [(number, row) for number, row in prepared.rows if number not in bad]


def _percent(words: str) -> int:
    return PARTS.get(words, 75)


def _write_faulty(run: ImportRun, table: UploadedTable, faults: list[RowFault]) -> None:
    """The rows with faults as they were sent, with what is wrong beside them, to be mended and sent again."""
    wrong: dict[int, list[str]] = {}
    for fault in faults:
        wrong.setdefault(fault.row, []).append(f"{fault.column}: {fault.wrong}. Expected: {fault.right}")
    with (folder_of(run) / "faulty.csv").open("w", encoding="utf-8", newline="") as file:
        out = csv.writer(file)
        out.writerow([*table.header, "what is wrong"])
        out.writerows([*cells, " · ".join(wrong[number])] for number, cells in table.rows if number in wrong)


def undo_run(run: ImportRun, viewer: Viewer, now: datetime) -> None:
    """Undo a whole import; raises WriteConflict where something came after it."""
    viewer.require(May.IMPORT)
    path = folder_of(run) / str(run.report.get("journal", "journal.gz"))
    try:
        journals = journal.read_journal(path)
    except (OSError, EOFError, ValueError, zlib.error) as error:
        raise WriteConflict(
            "The record of what this import changed is missing, damaged or of an earlier version, so it cannot be undone by"
            " itself. Restore a backup made before it, or correct the rows."
        ) from error
    with transaction.atomic():
        if not ImportRun.objects.filter(pk=run.pk, status=ImportStatus.DONE).update(status=ImportStatus.UNDONE):
            raise WriteConflict("Only a finished import can be undone.")
        journal.undo(journals)
        audit(viewer, "import undone", f"{run.kind} from {run.file_name}", now)
        old_rows_changed()


def forget_run(run: ImportRun, viewer: Viewer) -> None:
    """Take away a file that was never taken in."""
    viewer.require(May.IMPORT)
    shutil.rmtree(folder_of(run), ignore_errors=True)
    audit(viewer, "import dropped", f"{run.kind} from {run.file_name}", present())
    run.delete()
