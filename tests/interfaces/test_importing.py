"""Parts of imports: guessed columns and forms, tables as they come, the journal that undoes whatever was written."""

import gzip
import io
import json
import os
import subprocess
import threading
import zipfile
from datetime import date, datetime
from random import Random
from time import monotonic

import openpyxl
import pytest
import xlsxwriter
from django.core.management import call_command
from django.db import connection, transaction
from django.db.models import Value
from django.db.models.functions import Concat

from tests.conftest import NOW
from tests.support.kept_rows import somebody_else_can_write
from tests.support.random_world import random_world
from tests.support.world import World, ask
from wise_tally.book.store import books
from wise_tally.core.effect import StageChange, effect_of, with_changes
from wise_tally.domain.database import is_file
from wise_tally.domain.deals.models import Account, Contact, Deal, DealRevision, Lead
from wise_tally.domain.file_lock import alone
from wise_tally.domain.imports.models import ImportRun
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.book_number import reference_changed, revisions_added
from wise_tally.domain.org.models import AuditEntry, Person
from wise_tally.domain.process.models import Process
from wise_tally.domain.refusals import WriteConflict
from wise_tally.package.faults import PackageRefused
from wise_tally.package.reading import check_package, read_package
from wise_tally.package.tables import TABLES
from wise_tally.package.writing import write_package
from wise_tally.pages.setup.imports import journal
from wise_tally.pages.setup.imports.kinds import KINDS, guess, guess_forms
from wise_tally.pages.setup.imports.prepare import Matching, derived_key
from wise_tally.pages.setup.imports.run import (
    Progress,
    _lock_of,
    begin,
    carry_out,
    folder_of,
    is_carried_out,
    progress_of,
    start_run,
    tell,
    undo_run,
)
from wise_tally.web.files.uploads import UploadedTable, UploadRefused, read_table

ADMIN = Viewer("boss", "Boss", "admin", ())
GUESSES = [
    ("deals", "Deal ID;Deal Name;Amount;Stage;Owner;Expected Close Date;Created Date;Account Name;Type",
     "deal_id name amount stage_id owner_id expected_close created_at account_id deal_type"),
    ("deals", "Opportunity;Client;Salesperson;Phase;Value;Closing",
     "name account_id owner_id stage_id amount expected_close"),
    ("accounts", "Company;Country;Region", "name country territory_id"),
    ("people", "Name;E-mail;Department;Role", "name email team_id role"),
    ("invoices", "Number;Customer;Issued;Due;Amount;Paid", "invoice_id account_id issued_on due_on amount paid_on"),
]  # fmt: skip


@pytest.mark.parametrize(("kind", "headings", "ours"), GUESSES)
def test_columns_are_guessed_from_their_headings(kind, headings, ours):
    found = guess(KINDS[kind], headings.split(";"))
    assert found == dict(zip(ours.split(), headings.split(";"), strict=True))


FORMS = [
    ("2026-11-23", "1250.00", ("ymd", "plain")),
    ("23/11/2026", "1.250,00", ("dmy", "point")),
    ("11/23/2026", "1,250.00", ("mdy", "comma")),
    ("03.04.2026", "1 250,50", ("dmy", "space")),
    ("2026-11-23T10:00", "12,500", ("ymd", "comma")),
    ("", "0,5", ("ymd", "point")),
    ("", "1.250.000", ("ymd", "point")),
]


@pytest.mark.parametrize(("day", "number", "forms"), FORMS)
def test_forms_of_dates_and_numbers_are_guessed_from_the_rows(day, number, forms):
    table = UploadedTable(["Close", "Amount"], [(2, ["", ""]), (3, [day, number])])
    assert guess_forms(KINDS["deals"], {"expected_close": "Close", "amount": "Amount"}, table) == forms


def workbook(rows):
    book = openpyxl.Workbook()
    for row in rows:
        book.active.append(row)
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def test_tables_come_as_text_with_the_row_on_which_each_record_begins():
    quoted = read_table("x.csv", b'\xef\xbb\xbfName;Note\r\nA;"two\r\nlines"\r\n\r\nB;one\r\n')
    assert quoted.header == ["Name", "Note"]
    assert quoted.rows == [(2, ["A", "two\r\nlines"]), (5, ["B", "one"])]
    rows = [["Name", "Day", "Money", "Yes"], ["A", date(2026, 11, 23), 1250.5, True], [None, None, None, None],
            ["B", datetime(2026, 11, 23, 9, 30), 12.0, "x"]]  # fmt: skip
    sheet = read_table("x.xlsx", workbook(rows))
    assert sheet.rows == [(2, ["A", "2026-11-23", "1250.5", "true"]), (4, ["B", "2026-11-23T09:30:00", "12", "x"])]
    assert read_table("x.csv", "a|b\n1|ä\n".encode("utf-16")).rows == [(2, ["1", "ä"])]
    titled = read_table("x.csv", b'Spring\nName;Total;Note\nA;1,50;"b, c, d, e"\nB;2,50;\n')
    assert titled.rows == [(3, ["A", "1,50", "b, c, d, e"]), (4, ["B", "2,50", ""])]
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as package:
        package.writestr("hello.txt", "x")
    with pytest.raises(UploadRefused, match="not a workbook"):
        read_table("x.xlsx", out.getvalue())


CELL = '<row r="{0}"><c r="{1}{0}" t="inlineStr"><is><t>{2}</t></is></c></row>'
ENTITIES = "".join(f'<!ENTITY e{n} "{f"&e{n - 1};" * 10}">' for n in range(1, 9))
SPOILED = {
    "cells in far corners": ("", CELL.format(1, "A", "n") + CELL.format(199_999, "XFD", "x")),
    "more rows than anybody types": ("", CELL.format(1, "A", "n") + CELL.format(1_048_576, "A", "x")),
    "words that unfold": (f'<!DOCTYPE l [<!ENTITY e0 "aaaaaaaaaa">{ENTITIES}]>', CELL.format(1, "A", "&e8;")),
    "a header without end": (
        "",
        CELL.format(1, "A", "n").replace("</row>", CELL.format(1, "KP", "n").partition(">")[2]),
    ),
    "cut off in the middle": ("", CELL.format(1, "A", "n") + "<row r="),
    "blanks without end": ("", CELL.format(1, "A", "n") + " " * 50_000_000),
}


@pytest.mark.parametrize("how", SPOILED)
def test_a_spoiled_workbook_is_refused_at_once(how):
    before, rows = SPOILED[how]
    out, name = io.BytesIO(), "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
    sheet = f'<?xml version="1.0"?>{before}<worksheet xmlns="{name}"><sheetData>{rows}</sheetData></worksheet>'
    with zipfile.ZipFile(io.BytesIO(workbook([["n"]]))) as good, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as bad:
        for part in good.infolist():
            bad.writestr(part.filename, sheet if part.filename.endswith("sheet1.xml") else good.read(part))
    began = monotonic()
    with pytest.raises(UploadRefused, match=r"Choose|Use|accepted|Split|Remove|Save it"):
        read_table("x.xlsx", out.getvalue())
    assert monotonic() - began < 2


def test_a_formula_comes_as_what_it_came_to():
    out = io.BytesIO()
    with xlsxwriter.Workbook(out) as book:
        sheet = book.add_worksheet()
        sheet.write("A3", "quota")
        sheet.write_formula("A4", "=2*600", None, 1_200)
        sheet.write("C4", "beside the header")
    assert read_table("x.xlsx", out.getvalue()) == UploadedTable(["quota"], [(4, ["1200"])])


def everything(folder):
    """The whole workspace as bytes."""
    write_package(folder, NOW)
    return {name: (folder / table.path).read_bytes() for name, table in TABLES.items()}


@pytest.mark.django_db
@pytest.mark.parametrize("seed", range(8))
def test_whatever_a_package_writes_is_undone_by_its_journal(seed, tmp_path):
    """A second random world over the first: new rows, changed rows, replaced histories and credits, all put back."""
    random_world(seed).read(tmp_path / "first")
    before = everything(tmp_path / "before")
    other, random = random_world(seed + 100), Random(seed)
    other.tables["people"][0]["name"] = "Renamed"
    for row in other.tables["deals"]:
        row["name"] = f"changed {random.random()}"
    folder = other.write(tmp_path / "second")
    with transaction.atomic(), journal.journalling() as start:
        read_package(folder, NOW)
        changes = journal.written(start)
        assert journal.keep(changes, tmp_path / "journal.gz") > 50
    assert not any(told.inserted & told.before.keys() for told in changes.values()), "told once"
    assert everything(tmp_path / "between") != before
    renamed = Person.objects.filter(name="Renamed")
    number = renamed.get().pk
    renamed.update(name="Renamed again")
    with pytest.raises(WriteConflict, match="People of the import"):
        journal.undo(journal.read_journal(tmp_path / "journal.gz"))
    Person.objects.filter(pk=number).update(name="Renamed")
    journal.undo(journal.read_journal(tmp_path / "journal.gz"))
    after = everything(tmp_path / "after")
    assert {name for name in before if before[name] != after[name]} == set()


@pytest.mark.django_db
def test_an_import_is_not_undone_over_later_changes(tmp_path, settings):
    settings.WORK_FOLDER = tmp_path
    World().read(tmp_path / "in")
    Person.objects.create(key="boss", name="Boss", role="admin")
    run = small_run([["Dock", "org"]], "accounts", ["Company", "Kind"], {"name": "Company"})
    account = Account.objects.get(name="Dock")
    assert account.key == derived_key("Dock")
    Lead.objects.create(key="l", name="l", created_at=NOW)
    Account.objects.filter(pk=account.pk).update(country="IE")
    with pytest.raises(WriteConflict, match="changed or deleted later"):
        undo_run(run, ADMIN, NOW)
    Account.objects.filter(pk=account.pk).update(country="")
    undo_run(run, ADMIN, NOW)
    assert not Account.objects.exists()
    with pytest.raises(WriteConflict, match="Only a finished import"):
        undo_run(ImportRun.objects.get(), ADMIN, NOW)
    assert AuditEntry.objects.filter(action="import undone").count() == 1


def sent(rows, kind, header, columns):
    """A run of rows that are sent, and how they match."""
    content = "\n".join(",".join(row) for row in [header, *rows]).encode()
    return start_run(ADMIN, kind, "x.csv", content, read_table("x.csv", content), NOW), Matching(columns)


def small_run(rows, kind, header, columns):
    """Rows taken in at once; the run as it then is."""
    run, matching = sent(rows, kind, header, columns)
    begin(run, matching, len(rows), ADMIN, NOW)
    run.refresh_from_db()
    assert run.status == "done", run.report
    return run


@pytest.mark.django_db
def test_a_long_import_runs_by_its_command_and_a_broken_one_says_why(tmp_path, settings):
    settings.WORK_FOLDER = tmp_path
    World().read(tmp_path / "in")
    Person.objects.create(key="boss", name="Boss", role="admin")
    lines = ["Deal,Rep,Stage,Amount,Close", *(f"D{n},A,one,{n}.50,2026-12-{n % 28 + 1:02}" for n in range(3_500))]
    content = "\n".join(lines).encode()
    run = start_run(ADMIN, "deals", "long.csv", content, read_table("long.csv", content), NOW)
    columns = {"name": "Deal", "owner_id": "Rep", "stage_id": "Stage", "amount": "Amount", "expected_close": "Close"}
    ImportRun.objects.update(matching={"columns": columns, "process": "p"}, status="running")
    call_command("run_import", str(run.pk), "boss")
    run.refresh_from_db()
    assert (run.status, run.report["changed"]) == ("done", 7_000)
    assert Deal.objects.count() == DealRevision.objects.count() == 3_500
    assert ask("forecast", "FY2027-Q3", "2026-11-23")[""]["open"] == f"{sum(range(3_500)) + 1_750}.00"
    (tmp_path / "imports" / str(run.pk) / "source").unlink()
    with pytest.raises(FileNotFoundError):
        call_command("run_import", str(run.pk), "boss")
    run.refresh_from_db()
    assert (run.status, "the import stopped" in run.report["faults"][0][2]) == ("refused", True)


@pytest.mark.django_db
@pytest.mark.parametrize("seed", range(6))
def test_the_effect_of_other_stages_is_the_difference_of_two_forecasts(seed, tmp_path):
    """Naively: the open counted deals of each stage, weighed twice in plain Python."""
    random_world(seed).read(tmp_path)
    book, random = books.current(), Random(seed)
    snapshot = book.as_of(date(2025, 6, 1))
    changes = {
        stage: StageChange(random.randrange(0, 10_001), random.randrange(4), None, bool(random.getrandbits(1)))
        for stage, found in enumerate(book.reference.stages)
        if found.kind == 0
    }
    effect = effect_of(book, snapshot, changes)
    after = with_changes(book.reference, changes)
    rev = book.revisions
    for row in effect.stages:
        here = [i for i in range(len(snapshot.deal)) if snapshot.stage[i] == row.stage]
        assert row.deals_open == len(here)
        totals = []
        for reference, rules in (
            (book.reference, book.reference.rules_on(snapshot.as_of)),
            (after, after.rules_on(snapshot.as_of)),
        ):
            total = 0
            for i in here:
                own, rule = int(rev.probability_bp[snapshot.row[i]]), rules[row.stage]
                chance = own if own >= 0 and reference.stages[row.stage].own_probability else rule.probability_bp
                category = int(rev.category[snapshot.row[i]])
                category = rule.category if category < 0 else category
                exact = int(snapshot.amount_minor[i]) * chance
                half = exact // 10_000 + (exact % 10_000 > 5_000 or (exact % 10_000 == 5_000 and exact // 10_000 % 2))
                total += half if book.reference.categories[category].counted else 0
            totals.append(total)
        assert (row.weighted_before, row.weighted_after) == tuple(totals)
    assert effect.change == sum(row.change for row in effect.stages)


@pytest.mark.django_db
def test_a_killed_import_is_seen_as_interrupted_even_before_the_server_waits_for_it(tmp_path, settings):
    """Whoever carries a run out holds its lock, which ends with the process, whatever becomes of its number."""
    settings.WORK_FOLDER = tmp_path
    run = ImportRun.objects.create(kind="deals", file_name="x.csv", at=NOW, status="running")
    assert not is_carried_out(run)
    folder_of(run).mkdir(parents=True)
    with alone(_lock_of(run)) as claim:
        child = subprocess.Popen(["sleep", "60"], pass_fds=[claim])
    assert is_carried_out(run)
    with alone(_lock_of(run)) as second:
        assert second is None, "nobody else begins it"
    child.kill()
    os.waitid(os.P_PID, child.pid, os.WEXITED | os.WNOWAIT)
    assert not is_carried_out(run)
    child.wait()


def test_an_import_tells_how_long_it_will_take(tmp_path, settings, monkeypatch):
    settings.WORK_FOLDER, run = tmp_path, ImportRun(pk=7, kind="deals")
    assert progress_of(run) == Progress()
    folder_of(run).mkdir(parents=True)
    monkeypatch.setattr("time.time", lambda: 1_000.0)
    tell(run, 0, "starting")
    monkeypatch.setattr("time.time", lambda: 1_100.0)
    tell(run, 20, "row 5 of 25")
    assert progress_of(run) == Progress(20, "row 5 of 25", 1_000.0)
    assert progress_of(run).minutes_left == 7, "400 seconds more"


@pytest.mark.django_db(transaction=True)
def test_pressed_twice_an_import_is_taken_once(tmp_path, settings, monkeypatch):
    settings.WORK_FOLDER = tmp_path
    World().read(tmp_path / "in")
    Person.objects.create(key="boss", name="Boss", role="admin")
    run, matching = sent([["Dock", "org"]], "accounts", ["Company", "Kind"], {"name": "Company"})
    begun, held = [], threading.Event()

    def slowly(*given):
        begun.append(given)
        held.wait(5)
        carry_out(*given)

    monkeypatch.setattr("wise_tally.pages.setup.imports.run.carry_out", slowly)

    def press():
        begin(ImportRun.objects.get(pk=run.pk), matching, 1, ADMIN, NOW)
        connection.close()

    presses = [threading.Thread(target=press) for _ in range(4)]
    for one in presses:
        one.start()
    for one in presses[1:]:
        one.join(2)
    held.set()
    for one in presses:
        one.join()
    press()
    assert len(begun) == 1
    run.refresh_from_db()
    assert (run.status, Account.objects.count()) == ("done", 1)
    earlier = gzip.compress(json.dumps({"deals_account": [["id"], [[1, 77]], [], [], []]}).encode())
    for content in (b"cut", earlier):
        (folder_of(run) / run.report["journal"]).write_bytes(content)
        with pytest.raises(WriteConflict, match="missing, damaged or of an earlier version"):
            undo_run(run, ADMIN, NOW)


@pytest.mark.django_db(transaction=True)
def test_others_write_while_a_package_is_read_and_checked_and_it_is_checked_again(tmp_path):
    world = World().deal("d", ("2026-11-01", "s1", 1000, "2026-12-01"))
    world.read(tmp_path / "in")
    steps = {}

    def step(name):
        steps[name] = somebody_else_can_write()

    read_package(world.write(tmp_path / "again"), NOW, step)
    assert {steps.pop(name) for name in ("reading", "checking", "preparing")} == {True}
    assert set(steps.values()) == {False}
    if is_file():
        with connection.cursor() as cursor:
            assert cursor.execute("PRAGMA foreign_key_check").fetchall() == []
            assert cursor.execute("PRAGMA foreign_keys").fetchone() == (1,), "after it they are looked up again"
    world.deal("e", ("2026-11-02", "s1", 2000, "2026-12-01"))
    with check_package(world.write(tmp_path / "meanwhile")).ready() as ready:
        other = Deal.objects.create(key="e", name="made meanwhile", process=Process.objects.get(), created_at=NOW)
        revisions_added()
        with transaction.atomic():
            ready.take(NOW)
    assert Deal.objects.get(key="e").pk == other.pk, "what somebody made meanwhile is the package's own deal"
    assert [r.amount_minor for r in other.revisions.all()] == [200_000]
    world.tables["contacts"] = [{"contact_id": "c", "account_id": "a", "name": "Cay"}]
    world.tables["accounts"] = [{"account_id": "a", "name": "Acre"}]
    world.read(tmp_path / "contact")
    del world.tables["contacts"], world.tables["accounts"]
    for row in world.tables["deals"]:
        row["contact_id"] = "c"
    with check_package(world.write(tmp_path / "gone")).ready() as ready:
        Contact.objects.all().delete()
        with pytest.raises(PackageRefused, match="“c” was deleted meanwhile"), transaction.atomic():
            ready.take(NOW)
    for row in world.tables["deals"]:
        del row["contact_id"]
    world.tables.pop("people")
    with check_package(world.write(tmp_path / "later")).ready() as ready:
        Person.objects.update(key=Concat("key", Value("x")))
        reference_changed()
        with pytest.raises(PackageRefused), transaction.atomic():
            ready.take(NOW)
