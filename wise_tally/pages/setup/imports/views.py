"""Pages of imports: send a file, match its columns, see how it would be read, take it in, undo it."""

from typing import Any

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from wise_tally.demo.build import build_demo
from wise_tally.domain.database import is_file
from wise_tally.domain.deals.models import Deal
from wise_tally.domain.formats import plural
from wise_tally.domain.imports.models import ImportRun, ImportStatus
from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import now, today
from wise_tally.domain.process.models import Process
from wise_tally.operation.backup import make_backup
from wise_tally.package.tables import TABLES
from wise_tally.pages.setup.imports.kinds import DATE_FORMS, KINDS, NUMBER_FORMS, guess, guess_forms, kind_of
from wise_tally.pages.setup.imports.ledger_feed import fetch_ledger
from wise_tally.pages.setup.imports.prepare import Matching
from wise_tally.pages.setup.imports.preview import preview
from wise_tally.pages.setup.imports.run import (
    begin,
    folder_of,
    forget_run,
    is_carried_out,
    progress_of,
    remembered,
    start_run,
    table_of,
    undo_run,
)
from wise_tally.web.files.uploads import UploadedTable, UploadRefused, read_upload
from wise_tally.web.request.permissions import all_needs
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest

ENDED = (ImportStatus.DONE, ImportStatus.UNDONE)


def run_of(number: int) -> ImportRun:
    """The run of an address."""
    return get_object_or_404(ImportRun, pk=number, kind__in=KINDS)


@require_http_methods(["GET", "HEAD", "POST"])
@all_needs(May.IMPORT)
def imports(request: PageRequest) -> HttpResponse:
    """All imports, and a form to send a file."""
    wrong, kind = "", request.POST.get("kind", request.GET.get("kind", "deals"))
    if request.method == "POST":
        try:
            if kind not in KINDS:
                raise UploadRefused(f"“{kind[:20]}” cannot be imported. Choose one of: {', '.join(KINDS)}.")
            file = request.FILES.get("file")
            table = read_upload(file)
            assert file is not None
            file.seek(0)
            run = start_run(request.viewer, kind, str(file.name), file.read(), table, now())
            return redirect("imports:import", number=run.pk)
        except UploadRefused as refused:
            wrong = str(refused)
    runs = ImportRun.objects.select_related("person").order_by("-pk")[:50]
    answer = {"kinds": KINDS.values(), "kind": kind, "runs": runs, "wrong": wrong}
    return render(request, "imports/imports.html", answer, status=422 if wrong else 200)


@require_POST
@all_needs(May.IMPORT)
def ledger(request: PageRequest) -> HttpResponse:
    """Take in what the simulated ledger has since the last time."""
    rows = fetch_ledger(request.viewer, today(), now())
    messages.success(
        request, f"The ledger brought {plural(rows['invoices'], 'invoice')} and {plural(rows['orders'], 'order')}."
    )
    return redirect("imports:imports")


@require_http_methods(["GET", "HEAD", "POST"])
@all_needs(May.IMPORT)
def one(request: PageRequest, number: int) -> HttpResponse:
    """One import: match and preview, or progress, or how it went."""
    run = run_of(number)
    if run.status in ENDED:
        return _ended(request, run)
    if is_carried_out(run):
        return render(request, "imports/import_running.html", {"run": run, "progress": progress_of(run)})
    # It may have ended between the two looks.
    run.refresh_from_db()
    if run.status in ENDED:
        return redirect("imports:import", number=run.pk)
    table = _still_there(run)
    matching, wrong = _matching(request, run, table)
    if request.method == "POST" and not wrong and "take" in request.POST:
        begin(run, matching, len(table.rows), request.viewer, now())
        return redirect("imports:import", number=run.pk)
    interrupted = run.status == ImportStatus.RUNNING
    answer = _match_answer(run, table, matching, request.POST.get("show", ""))
    answer |= {"wrong": wrong, "interrupted": interrupted}
    return render(request, "imports/import_match.html", answer, status=422 if wrong else 200)


def _ended(request: PageRequest, run: ImportRun) -> HttpResponse:
    # In the order in which tables are read: a database may keep the names of a report in another one.
    counts = run.report.get("rows", {})
    rows = [(name, counts[name]) for name in TABLES if name in counts]
    return render(request, "imports/import_done.html", {"run": run, "kind": KINDS[run.kind], "rows": rows})


def _still_there(run: ImportRun) -> UploadedTable:
    try:
        return table_of(run)
    except (OSError, UploadRefused) as error:
        raise Refused("The file is no longer available. Upload it again.", 410) from error


def _matching(request: PageRequest, run: ImportRun, table: UploadedTable) -> tuple[Matching, str]:
    """The matching as posted; else as last used for these headings; else as guessed."""
    kind = kind_of(run.kind)
    first = Process.objects.offered().order_by("name").values_list("key", flat=True).first() or ""
    if request.method != "POST":
        saved: Any = run.matching or remembered(run)
        if saved:
            return Matching(**saved), ""
        columns = guess(kind, table.header)
        return Matching(columns, *guess_forms(kind, columns, table), process=first), ""
    posted = request.POST
    columns = {n: posted[f"c:{n}"] for n in kind.columns if posted.get(f"c:{n}") in table.header}
    matching = Matching(
        columns,
        posted.get("dates", "ymd"),
        posted.get("numbers", "plain"),
        posted.get("process", first),
        "good_rows_only" in posted,
        "make_accounts" in posted,
    )
    missing = [name for name in kind.needed if name not in columns]
    if missing:
        return (
            matching,
            f"These required fields have no column: {', '.join(kind.words(n) for n in missing)}. Choose a column for each.",
        )
    if matching.dates not in DATE_FORMS or matching.numbers not in NUMBER_FORMS:
        return matching, "Choose a date format and a number format."
    if run.kind == "deals" and not Process.objects.filter(key=matching.process).exists():
        return matching, "Choose the process of deals that do not name theirs; add one first where there is none."
    return matching, ""


def _match_answer(run: ImportRun, table: UploadedTable, matching: Matching, show: str) -> dict[str, Any]:
    kind = kind_of(run.kind)
    columns = [
        (
            name,
            "identifier" if kind.column(name).kind == "id" else kind.words(name),
            name in kind.needed,
            matching.columns.get(name, ""),
        )
        for name in kind.columns
    ]
    return {
        "run": run,
        "kind": kind,
        "rows_count": len(table.rows),
        "note": table.note,
        "columns": columns,
        "headings": [heading for heading in table.header if heading],
        "matching": matching,
        "dates": [(key, example) for key, (example, _) in DATE_FORMS.items()],
        "numbers": [(key, parts[0]) for key, parts in NUMBER_FORMS.items()],
        "processes": Process.objects.offered().order_by("name"),
        "preview": preview(kind, table, matching, now(), show),
    }


@require_safe
@all_needs(May.IMPORT)
def faulty(request: PageRequest, number: int) -> HttpResponse:
    """The rows with faults, with what is wrong beside them."""
    path = folder_of(run_of(number)) / "faulty.csv"
    if not path.exists():
        raise Http404
    named = {"Content-Disposition": 'attachment; filename="rows-to-mend.csv"'}
    return HttpResponse(path.read_bytes(), content_type="text/csv; charset=utf-8", headers=named)


@require_POST
@all_needs(May.IMPORT)
def change(request: PageRequest, number: int) -> HttpResponse:
    """Undo an import, or forget a file that was not taken."""
    run, viewer = run_of(number), request.viewer
    if request.POST.get("what") == "undo":
        undo_run(run, viewer, now())
        messages.success(request, "Import undone.")
        return redirect("imports:import", number=run.pk)
    if request.POST.get("what") == "forget" and run.status not in ENDED and not is_carried_out(run):
        forget_run(run, viewer)
        return redirect("imports:imports")
    raise Refused("Choose to undo a finished import or to discard a file.")


@require_POST
@all_needs(May.SET_ORGANISATION)
def look_around(request: PageRequest) -> HttpResponse:
    """Fill an empty workspace with the demo firm, after a backup that empties it again."""
    if Process.objects.exists() or Deal.objects.exists():
        raise Refused("This workspace is not empty. Start the demo in its own database with ./tally demo.", 409)
    made = make_backup(now()).name if is_file() else "the backup of your PostgreSQL"
    build_demo(today(), now())
    messages.success(request, f"Demo data loaded. Restore {made} to empty the workspace.")
    return redirect("forecast:page")
