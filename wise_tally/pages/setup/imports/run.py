"""Carrying an import out: all of a file or, with faults, nothing; progress in a file beside it, undo from its journal."""

import csv
import json
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

from django.conf import settings
from django.db import transaction

from wise_tally.domain.deals.parts import follow_lines
from wise_tally.domain.formats import plural
from wise_tally.domain.imports.models import ImportRun, ImportStatus
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.book_number import old_rows_changed
from wise_tally.domain.org.clock import now as present
from wise_tally.domain.org.models import Person
from wise_tally.package.faults import PackageRefused
from wise_tally.package.reading import read_package
from wise_tally.pages.setup.imports import journal
from wise_tally.pages.setup.imports.kinds import kind_of
from wise_tally.pages.setup.imports.prepare import Matching, Prepared, Preparer, RowFault
from wise_tally.pages.setup.imports.rehearsal import faults_of_rows, rehearse, write_rows
from wise_tally.web.files.uploads import UploadedTable, read_table

SHOWN_FAULTS = 200
AT_ONCE = 3_000
PARTS = {"reading": 45, "checking": 60}
Progress = Callable[[int, str], None]


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
    run.matching = {name: getattr(matching, name) for name in Matching.__dataclass_fields__}
    run.status = ImportStatus.RUNNING
    run.save(update_fields=["matching", "status"])
    if rows <= AT_ONCE:
        carry_out(run, viewer, now)
        return
    command = [sys.executable, "-m", "wise_tally", "run_import", str(run.pk), viewer.key]
    with (folder_of(run) / "log").open("wb") as log:
        process = subprocess.Popen(
            command, stdout=log, stderr=log, start_new_session=True, cwd=settings.ROOT, env={**os.environ}
        )
    tell(run, 0, "starting", process.pid)


def tell(run: ImportRun, percent: int, words: str, pid: int | None = None) -> None:
    """Write how far the run is, where others read it without the database."""
    path = folder_of(run) / "progress.json"
    fresh = path.with_suffix(".new")
    fresh.write_text(json.dumps({"percent": percent, "words": words, "pid": pid or os.getpid()}))
    fresh.replace(path)


def progress_of(run: ImportRun) -> tuple[int, str, bool]:
    """Percent done, what is being done, and whether somebody still does it."""
    try:
        found = json.loads((folder_of(run) / "progress.json").read_text())
        # A killed process that the server has not waited for is still listed, as a zombie.
        state = Path(f"/proc/{found['pid']}/stat").read_text().rsplit(")", 1)[1].split()[0]
        return found["percent"], found["words"], state != "Z"
    except (OSError, ValueError, KeyError):
        return 0, "interrupted", False


def carry_out(run: ImportRun, viewer: Viewer, now: datetime) -> None:
    """Take the file in. What was found stands in the run's report; with faults nothing is taken."""
    matching = Matching(**run.matching)
    try:
        table = table_of(run)
        prepared = Preparer(kind_of(run.kind), matching, now).run(
            table, lambda done: tell(run, 40 * done // max(len(table.rows), 1), f"row {done} of {len(table.rows)}")
        )
        report = _take(run, prepared, matching, viewer, now)
    except WithFaults as refused:
        _write_faulty(run, table, refused.faults)
        report = {"faults": [_as_list(f) for f in refused.faults[:SHOWN_FAULTS]]}
        report["count"] = len(refused.faults) + refused.more
        ImportRun.objects.filter(pk=run.pk).update(status=ImportStatus.REFUSED, report=report)
        return
    if prepared.faults:
        _write_faulty(run, table, prepared.faults)
    ImportRun.objects.filter(pk=run.pk).update(status=ImportStatus.DONE, report=report)


def _as_list(fault: RowFault) -> list[object]:
    return [fault.row, fault.column, fault.wrong, fault.right]


def _take(run: ImportRun, prepared: Prepared, matching: Matching, viewer: Viewer, now: datetime) -> dict[str, object]:
    """Read the prepared rows as a package within one journalled transaction."""
    faults, kind = list(prepared.faults), kind_of(run.kind)
    while True:
        if faults and not matching.good_rows_only:
            # The table's own checks are told at the same time, so that all faults stand in one list.
            tried = rehearse(kind, prepared, matching, now)
            raise WithFaults(tried.faults, tried.more)
        with tempfile.TemporaryDirectory() as name:
            lines = write_rows(Path(name), kind, prepared)
            try:
                with transaction.atomic(), journal.journalling():
                    done = read_package(Path(name), now, lambda words: tell(run, _percent(words), words))
                    if kind.slug == "deal_lines":
                        follow_lines(viewer, {row["deal_id"] for _, row in prepared.rows}, now)
                    changes = journal.written()
                    count = journal.keep(changes, folder_of(run) / "journal.gz")
                    words = f"{run.kind} from {run.file_name}: {plural(len(prepared.rows), 'row')}, {count} changed"
                    audit(viewer, "import taken", words, now)
                break
            except PackageRefused as refused:
                fresh = faults_of_rows(kind, refused, lines, matching)
                if not matching.good_rows_only:
                    raise WithFaults(fresh, refused.report.more) from refused
                bad = {fault.row for fault in fresh}
                if not bad & {number for number, _ in prepared.rows}:
                    raise WithFaults([*faults, *fresh], refused.report.more) from refused
                faults += fresh
                prepared.rows = [(number, row) for number, row in prepared.rows if number not in bad]
    prepared.faults = faults
    report: dict[str, object] = {"rows": done.rows, "changed": count, "notes": done.notes[:20]}
    report["count"], report["faults"] = len(faults), [_as_list(f) for f in faults[:SHOWN_FAULTS]]
    return report


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
    """Undo a whole import; raises UndoRefused where something came after it."""
    viewer.require(May.IMPORT)
    if run.status != ImportStatus.DONE:
        raise journal.UndoRefused("Only a finished import can be undone.")
    journals = journal.read_journal(folder_of(run) / "journal.gz")
    with transaction.atomic():
        journal.undo(journals)
        ImportRun.objects.filter(pk=run.pk).update(status=ImportStatus.UNDONE)
        audit(viewer, "import undone", f"{run.kind} from {run.file_name}", now)
        old_rows_changed()


def forget_run(run: ImportRun, viewer: Viewer) -> None:
    """Take away a file that was never taken in."""
    viewer.require(May.IMPORT)
    shutil.rmtree(folder_of(run), ignore_errors=True)
    audit(viewer, "import dropped", f"{run.kind} from {run.file_name}", present())
    run.delete()
