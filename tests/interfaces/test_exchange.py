"""The package: the worked example, round trips, merging, and forty faults at once."""

import csv
import json
import re
import shutil
import subprocess
from datetime import UTC, datetime
from pathlib import Path

import pytest
from frictionless import Package

from tests.support.random_world import random_world
from tests.support.world import World, ask, moment
from wise_tally.book.store import books
from wise_tally.domain.deals.models import Deal, DealRevision
from wise_tally.interfaces.figures import FIGURES, figures
from wise_tally.interfaces.management.commands.figures import Command
from wise_tally.interfaces.question import Question
from wise_tally.package.faults import PackageRefused
from wise_tally.package.reading import read_package
from wise_tally.package.tables import TABLES
from wise_tally.package.writing import write_package

pytestmark = pytest.mark.django_db
CONTRACT = Path(__file__).parent.parent / "data" / "contract"
NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)
# In the worked example the row without the attribute stands even where it holds nothing, days to win name people by
# identifier, and the range's mean of 38.5385 stands as 38.53; the rules say otherwise, and the rules hold.
DIFFERENT_BY_RULE = {("days-to-win", "name"), ("range", "mean")}


def commands():
    """The worked example's commands for the figures there are, as argument lists."""
    lines = (CONTRACT / "expected" / "commands.tsv").read_text().splitlines()
    for line in lines:
        name, command = line.split("\t")
        words = command.split()[2:]
        if words[0] in FIGURES:
            yield name, words


def answer_of(words):
    """What `./tally figures` answers, through its own parser."""
    options = vars(Command().create_parser("tally", "figures").parse_args(words))
    names = (
        "figure",
        "as_of",
        "period",
        "by",
        "process",
        "team",
        "territory",
        "person",
        "basis",
        "strict",
        "since",
        "measure",
    )
    return figures(Question(**{name: options[name] for name in names}))


def agrees(expected, found):
    """Text and whole numbers exactly, ratios to 1e-9, days to 1e-6."""
    if isinstance(expected, float):
        return found is not None and abs(found - expected) < 1e-9
    return expected == found


def test_the_worked_example_agrees():
    read_package(CONTRACT / "small", NOW)
    for name, words in commands():
        expected = json.loads((CONTRACT / "expected" / f"{name}.json").read_text())
        answer = answer_of(words)
        rows = {row["key"]: row for row in answer["rows"]}
        for key, value in expected["scope"].items():
            assert agrees(value, answer["scope"][key]), (name, key)
        for row in expected["rows"]:
            if row["key"] is None and None not in rows:
                assert (row["won"], row["open"]) == ("0.00", "0.00"), name
                continue
            for column, value in row.items():
                if (expected["figure"], column) not in DIFFERENT_BY_RULE:
                    assert agrees(value, rows[row["key"]][column]), (name, row["key"], column)


def same_but_stamp(one: Path, other: Path):
    """All files alike but the created stamp."""
    for table in TABLES.values():
        assert (one / table.path).read_bytes() == (other / table.path).read_bytes(), table.path
    assert (one / "workspace.json").read_bytes() == (other / "workspace.json").read_bytes()
    first, second = (json.loads((p / "datapackage.json").read_text()) for p in (one, other))
    assert first | {"created": ""} == second | {"created": ""}


@pytest.mark.parametrize("source", ["contract", "random"])
def test_export_import_export_gives_the_same_bytes(source, tmp_path, django_db_blocker):
    if source == "contract":
        read_package(CONTRACT / "small", NOW)
    else:
        random_world(5).read(tmp_path / "in")
    write_package(tmp_path / "one", NOW)
    before = ask("forecast", "2024-01-01/2026-12-31", "2025-06-30", by="person")
    empty_database()
    read_package(tmp_path / "one", NOW)
    write_package(tmp_path / "two", NOW)
    same_but_stamp(tmp_path / "one", tmp_path / "two")
    read_package(tmp_path / "one", NOW)
    write_package(tmp_path / "three", NOW)
    same_but_stamp(tmp_path / "one", tmp_path / "three")
    assert ask("forecast", "2024-01-01/2026-12-31", "2025-06-30", by="person") == before


def empty_database():
    from django.core.management import call_command

    call_command("flush", verbosity=0, interactive=False)
    books.forget()


def test_the_written_package_is_valid_by_the_open_standard(tmp_path):
    read_package(CONTRACT / "small", NOW)
    write_package(tmp_path, NOW)
    report = Package(str(tmp_path / "datapackage.json")).validate()
    assert report.valid, report.flatten(["fileName", "rowNumber", "fieldName", "note"])[:5]


def test_a_known_deal_sent_without_revisions_gets_one_where_it_differs(tmp_path):
    World().deal("d", ("2025-01-01", "s1", 10, "2025-03-01")).read(tmp_path / "a")
    state = {"stage_id": "s2", "amount": "10.00", "owner_id": "a", "expected_close": "2025-03-01"}
    again = World().add("deals", deal_id="d", name="renamed", process_id="p", created_at=moment("2025-01-01"), **state)
    for _ in range(2):
        again.read(tmp_path / "b")
        assert DealRevision.objects.count() == 2, "reading the same package twice changes nothing"
    assert Deal.objects.get().name == "renamed"
    assert DealRevision.objects.last().effective_at == NOW


def rewrite(folder, name, text):
    (folder / name).write_bytes(text if isinstance(text, bytes) else text.encode())


def fault_of(folder):
    with pytest.raises(PackageRefused) as refused:
        read_package(folder, NOW)
    assert not Deal.objects.exists(), "nothing of a package with faults is taken"
    return refused.value.report


# What is put into a file of the worked example, and where the fault must be reported: row and column.
FAULTS = [
    ("deals.csv", lambda t: t.replace("d7,Flat", "d6,Flat"), 8, "deal_id"),
    ("deals.csv", lambda t: t.replace("d7,Flat,p", "d7,Flat,nope"), 8, "process_id"),
    ("deals.csv", lambda t: t.replace("70.07", "1,070.07"), 8, ""),
    ("deals.csv", lambda t: t.replace("70.07", '"1,070.07"'), 8, "amount"),
    ("deals.csv", lambda t: t.replace("70.07", "-70.07"), 8, "amount"),
    ("deals.csv", lambda t: t.replace("70.07", "70.071"), 8, "amount"),
    ("deals.csv", lambda t: t.replace("70.07", "NaN"), 8, "amount"),
    ("deals.csv", lambda t: t.replace("70.07", "123456789012"), 8, "amount"),
    ("deals.csv", lambda t: t.replace("70.07", ""), 8, "amount"),
    ("deals.csv", lambda t: t.replace("p2,70.07", "q2,70.07"), 8, "stage_id"),
    ("deals.csv", lambda t: t.replace("z,55", "z,155"), 8, "probability"),
    ("deals.csv", lambda t: t.replace("2025-06-30", "2025-06-31"), 8, "expected_close"),
    ("deals.csv", lambda t: t.replace("2025-02-21T", "2025-01-02T"), 9, "closed_at"),
    ("deals.csv", lambda t: t.replace("d7,Flat", " d7,Flat"), 8, "deal_id"),
    ("deals.csv", lambda t: t.replace("d7,Flat", f"{'x' * 65},Flat"), 8, "deal_id"),
    ("deals.csv", lambda t: t.replace("d7,Flat", f"d7,{'n' * 201}"), 8, "name"),
    ("deals.csv", lambda t: t.replace("d7,Flat", "d7,Fl\0at"), 8, "name"),
    ("deals.csv", lambda t: t.replace("name,", "title,"), 1, "name"),
    ("deal_revisions.csv", lambda t: t.replace("d1,2025-02-06", "d1,2024-02-06"), 3, "effective_at"),
    ("deal_revisions.csv", lambda t: t.replace("d2,2025-03-07", "d2,2025-01-31"), 7, "effective_at"),
    ("deal_revisions.csv", lambda t: t.replace("09:00:00+00:00", "09:00:00", 1), 2, "effective_at"),
    ("deal_revisions.csv", lambda t: t.replace("p1,1001.50", "q1,1001.50"), 2, "stage_id"),
    ("deal_credits.csv", lambda t: t.replace("33.34", "33.33"), 2, "share"),
    ("quotas.csv", lambda t: t.replace("team,t1", "team,t9"), 3, "subject_id"),
    ("quotas.csv", lambda t: t.replace("9000.00", "-9000.00"), 2, "value"),
    ("quotas.csv", lambda t: t.replace("2025-07-01,2025-09-30", "2025-06-30,2025-09-30"), 5, "starts_on"),
    ("quotas.csv", lambda t: t.replace("2025-07-01,2025-09-30", "2025-09-30,2025-07-01"), 5, "ends_on"),
    ("stages.csv", lambda t: t.replace("p 4,4,lost", "p 4,4,won"), 5, "kind"),
    ("stages.csv", lambda t: t.replace("p 1,1,open", "p 1,1,ajar"), 2, "kind"),
    ("team_parents.csv", lambda t: t + "t1,t2,2025-01-01\n", 4, "parent_id"),
    ("settings.csv", lambda t: t.replace("EUR", "EURO"), 2, "value"),
    ("settings.csv", lambda t: t.replace("Europe/Dublin", "Europe/Nowhere"), 3, "value"),
    ("people.csv", lambda t: t.replace("manager", "boss"), 2, "role"),
    ("activities.csv", lambda t: t.replace("v2,phone", "v2,pigeon"), 3, "kind"),
    ("field_values.csv", lambda t: t.replace("salt", "sweet"), 3, "value"),
    ("fields.csv", lambda t: t.encode("utf-16"), 1, ""),
    ("accounts.csv", lambda t: t.replace("Account 2", '"Account 2'), 3, ""),
    ("leads.csv", None, "", ""),
]  # fmt: skip


@pytest.mark.parametrize(("file", "change", "row", "column"), FAULTS)
def test_each_fault_is_reported_at_its_place(file, change, row, column, tmp_path):
    folder = Path(shutil.copytree(CONTRACT / "small", tmp_path / "package"))
    if change is None:
        (folder / file).unlink()
    else:
        rewrite(folder, file, change((folder / file).read_text()))
    faults = [fault for fault in fault_of(folder).faults if fault.file == file]
    assert (row or 0, column) in [(fault.row, fault.column) for fault in faults], [str(f) for f in faults]
    assert all(fault.wrong and fault.right for fault in faults)


def test_a_fiscal_year_that_starts_within_a_month_is_refused_in_words(tmp_path):
    """Such as the U.K. tax year, which starts on 6 April (Income Tax Act 2007, section 4)."""
    folder = Path(shutil.copytree(CONTRACT / "small", tmp_path / "package"))
    settings = (folder / "settings.csv").read_text()
    rewrite(folder, "settings.csv", re.sub("(?m)^(fiscal_year_start_month),.*$", r"\1,04-06", settings))
    (fault,) = fault_of(folder).faults
    assert (fault.wrong, fault.right.split("; ")[1]) == (
        "“04-06” is not a month",
        "a fiscal year starts on the first of a month",
    )


def test_forty_faults_are_reported_at_once_and_the_thousandth_ends_the_list(tmp_path):
    world = World().deal("d", ("2025-01-01", "s1", 10, None))
    for number in range(40):
        world.add("accounts", account_id=f"a{number}", name="n", territory_id="nowhere")
    assert len(fault_of(world.write(tmp_path / "forty")).faults) == 40
    for number in range(40, 1100):
        world.add("accounts", account_id=f"a{number}", name="n", territory_id="nowhere")
    report = fault_of(world.write(tmp_path / "many"))
    assert (len(report.faults), report.more) == (1000, 100)
    assert report.lines()[-1] == "and 100 more errors"


def test_odd_but_good_files_are_read(tmp_path):
    """A byte order mark, CRLF, quoted line breaks, any column order, unknown columns, unlisted files."""
    world = World().deal("d", ("2025-01-01", "s1", 10, None))
    folder = world.write(tmp_path)
    with (folder / "deals.csv").open(newline="") as file:
        row = next(csv.DictReader(file))
    text = '\ufeffname,odd,deal_id,created_at,process_id\r\n"two\r\nlines",1,{deal_id},{created_at},{process_id}\r\n'
    rewrite(folder, "deals.csv", text.format(**row))
    rewrite(folder, "extra.csv", "a\n1\n")
    report = read_package(folder, NOW)
    assert Deal.objects.get().name == "two\r\nlines"
    assert [note.split(":")[0] for note in report.notes] == ["extra.csv", "deals.csv"]


def test_a_path_out_of_the_folder_and_a_broken_descriptor_are_refused(tmp_path):
    descriptor = {"resources": [{"name": "deals", "path": "../deals.csv"}]}
    rewrite(tmp_path, "datapackage.json", json.dumps(descriptor))
    assert "leads out of the folder" in fault_of(tmp_path).faults[0].wrong
    rewrite(tmp_path, "datapackage.json", "{")
    assert fault_of(tmp_path).faults[0].file == "datapackage.json"


@pytest.mark.parametrize(
    ("words", "accepted"),
    [
        (["nonsense"], "forecast"),
        (["forecast", "--period", "FY2026-Q9"], "FY2026-Q2"),
        (["forecast", "--as-of", "yesterday"], "YYYY-MM-DD"),
        (["forecast", "--by", "planet"], "territory"),
        (["forecast", "--person", "nobody"], "not a person"),
        (["conversion", "--leave-out", "x", "--process", "p"], "p1"),
        (["conversion"], "--process"),
        (["forecast", "--nonsense"], "--nonsense"),
    ],
)
def test_the_command_line_refuses_in_one_line(words, accepted, capsys):
    read_package(CONTRACT / "small", NOW)
    with pytest.raises(SystemExit) as ended:
        Command().run_from_argv(["manage.py", "figures", *words])
    assert ended.value.code == 2
    lines = capsys.readouterr().err.strip().splitlines()
    assert len(lines) == 1
    assert accepted in lines[0]


def test_import_and_figures_run_from_a_shell_on_a_missing_database(tmp_path):
    """Exit 0 and JSON where all is well, exit 1 with every fault on standard error where not."""
    import os
    import sys

    root = Path(__file__).resolve().parents[2]
    environment = {**os.environ, "WISE_TALLY_DATABASE": str(tmp_path / "new" / "w.sqlite3")}
    environment.pop("DJANGO_SETTINGS_MODULE", None)

    shell = {"cwd": root, "env": environment, "capture_output": True, "text": True}

    def run(*words):
        return subprocess.run([sys.executable, "manage.py", *words], check=False, **shell)

    assert run("import_package", str(CONTRACT / "small")).returncode == 0
    answer = run("figures", "forecast", "--period", "FY2026-Q1", "--as-of", "2025-05-20")
    assert json.loads(answer.stdout)["rows"][0]["weighted"] == "38.54"
    broken = Path(shutil.copytree(CONTRACT / "small", tmp_path / "broken"))
    rewrite(broken, "teams.csv", "team_id\nx\n")
    refused = run("import_package", str(broken))
    assert (refused.returncode, refused.stdout) == (1, "")
    assert "teams.csv, 1, name, the required column is missing" in refused.stderr


def whole_workspace(folder):
    """The worked example with one record of every part of the workspace file."""
    from wise_tally.package.workspace_file import PARTS

    shutil.copytree(CONTRACT / "small", folder)
    refs = {"people": "u1", "teams": "t1", "stages": "p1", "deals": "d1", "dashboards": "id of dashboards"}
    subjects = {"notices": "words", "contact_intervals": "process", "commission_statements": "person"}
    values = {"position": 1, "content": "aGVsbG8=", "document": "offer", "at": "2025-02-03T10:00:00+00:00",
              "months_bp": [1000] * 8 + [500] * 4, "starts_on": "2025-01-01", "ends_on": "2025-01-31", "held_on": "2025-01-06",
              "subject": "team", "subject_key": "t1", "metric": "won_deals", "shared": True, "starts": False, "agreed_on": "2025-01-06",
              "due_on": "2025-01-09", "done_on": None, "from_on": "2025-01-06", "rate_bp": 400, "days": 10, "place": 0, "wide": True,
              "retired": True,
              "issued_at": "2025-02-03T10:00:00+00:00", "lines": [["d1", 739000, False, 5, None]]}  # fmt: skip
    settings = {
        "reps_see_team": True,
        "all_see_unowned": False,
        "calls_due_on": 4,
        "decimal_sign": ",",
        "not_reached_message": "{firm}\nI ring again on {next}.",
        "day_order": "mdy",
    }
    content = {"settings": settings | {"customer_sizes": "usual\nkey account: 50000.50"}}
    for name, part in PARTS.items():
        record = {m: refs[part.refs[m]] if m in part.refs else values.get(m, f"{m} of {name}") for m in part.members}
        content[name] = [record | ({"subject": subjects[name]} if name in subjects else {})]
    (folder / "workspace.json").write_text(json.dumps(content))
    return content


def test_what_is_no_table_travels_in_the_workspace_file(tmp_path):
    content = whole_workspace(tmp_path / "in")
    read_package(tmp_path / "in", NOW)
    write_package(tmp_path / "one", NOW)
    assert json.loads((tmp_path / "one" / "workspace.json").read_text()) == content
    empty_database()
    read_package(tmp_path / "one", NOW)
    write_package(tmp_path / "two", NOW)
    same_but_stamp(tmp_path / "one", tmp_path / "two")


WORKSPACE_FAULTS = [
    (lambda c: c["entry_checks"][0].update(stage="nope"), "entry_checks/0/stage", "is not there"),
    (lambda c: c["season_curves"][0].update(months_bp=[1]), "season_curves/0/months_bp", "too short"),
    (lambda c: c["notices"][0].update(document="cake"), "notices/0/document", "is not one of"),
    (lambda c: c["sources"].append(dict(c["sources"][0])), "sources/1", "appears twice"),
    (lambda c: c["custom_periods"][0].update(starts_on="2025-02-31"), "custom_periods/0/starts_on", "is no date"),
    (lambda c: c.update(moons=[]), "", "Additional properties"),
]


@pytest.mark.parametrize(("spoil", "column", "says"), WORKSPACE_FAULTS)
def test_faults_of_the_workspace_file_are_named_and_nothing_is_taken(tmp_path, spoil, column, says):
    content = whole_workspace(tmp_path / "in")
    spoil(content)
    (tmp_path / "in" / "workspace.json").write_text(json.dumps(content))
    report = fault_of(tmp_path / "in")
    assert any(f.file == "workspace.json" and f.column == column and says in f.wrong for f in report.faults), (
        report.faults
    )


def test_the_documents_hold_the_schema_of_the_workspace_file():
    from wise_tally.package.workspace_file import schema

    text = (Path(__file__).resolve().parents[2] / "docs" / "exchange.md").read_text()
    written = text.split("```json schema\n")[1].split("```")[0]
    assert json.loads(written) == schema()
