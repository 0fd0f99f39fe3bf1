"""The outlook and its back-test from a shell: what they promise on the demo, what they refuse, what a rep's token sees."""

import json
from datetime import date
from decimal import Decimal
from pathlib import Path

import pytest
from django.core.management import call_command

from tests.conftest import NOW, TODAY
from tests.support.world import ask
from wise_tally.book.store import books
from wise_tally.core.lines import Filter
from wise_tally.core.outlook.expected import expected
from wise_tally.core.outlook.rows import of_deals
from wise_tally.demo.build import write_demo
from wise_tally.domain.org.access import viewer_of
from wise_tally.domain.org.models import Person
from wise_tally.interfaces.figures import figures
from wise_tally.interfaces.question import Question
from wise_tally.package.reading import read_package

pytestmark = pytest.mark.django_db
DAY = TODAY.isoformat()
QUARTER = "FY2027-Q3"


def test_the_back_test_of_the_demo_keeps_what_is_promised(demo, capsys):
    call_command("backtest", "--as-of", DAY, "--format", "json")
    scores = json.loads(capsys.readouterr().out)["scores"]["all"]
    outlook, weighted, run_rate = (scores[name] for name in ("outlook", "weighted", "run_rate"))
    assert outlook["error"] <= weighted["error"] / 2
    assert outlook["error"] < run_rate["error"]
    assert outlook["crps"] < run_rate["crps"]
    assert 0.7 <= outlook["coverage"] <= 0.9
    assert outlook["brier"] < 0.135
    assert weighted["brier"] > 0.2
    call_command("backtest", "--as-of", DAY, "--kind", "quarter", "--windows", "3")
    printed = capsys.readouterr().out
    assert "3 windows, 9 looks" in printed
    assert "The outlook leads" in printed


def test_the_worked_evening_of_the_demo(tmp_path):
    """The demo of 28 November on the evening of 30 September: the worked example's figures to within one or two percent."""
    write_demo(tmp_path, date(2026, 11, 28))
    read_package(tmp_path, NOW)
    book = books.current()
    snapshot, quarter = book.as_of(date(2026, 9, 30)), book.reference.fiscal.parse("FY2027-Q3")
    whole = of_deals(book, snapshot, quarter)
    found = expected(book, snapshot, quarter, Filter(), "company", "outlook", None, 1)
    assert len(whole.chances.places) == 70
    assert whole.chance.sum() == pytest.approx(22.73, rel=0.01)
    assert whole.to_come.number == pytest.approx(10.46, rel=0.01)
    assert whole.until.shock == pytest.approx(0.226, rel=0.01)
    ends = [found.outcome.quantile(q) / 100 for q in (0.1, 0.5, 0.9)]
    assert [found.mean_minor / 100, *ends] == pytest.approx([1_272_952, 877_522, 1_252_342, 1_697_718], rel=0.02)


def test_too_few_deals_are_refused_and_told(capsys):
    read_package(Path(__file__).parent.parent / "data" / "contract" / "small", NOW)
    with pytest.raises(SystemExit) as ended:
        call_command("backtest")
    assert ended.value.code == 2
    assert "Too few deals have closed" in capsys.readouterr().err
    (row,) = figures(Question("outlook", TODAY, "2026-01-01/2026-12-31"))["rows"]
    assert (row["leads"], row["mean"]) == ("weighted", None)
    assert "an outlook needs 20" in row["reason"]


def test_rows_add_up_and_deals_tell_their_reason(demo):
    rows = ask("outlook", QUARTER, DAY, by="person")
    whole = ask("outlook", QUARTER, DAY)[""]
    people = [row for key, row in rows.items() if key != "scope"]
    for name in ("won", "open_by_chance", "still_to_come", "mean"):
        assert sum(Decimal(row[name]) for row in people) == Decimal(whole[name]), name
    assert whole["leads"].startswith("outlook")
    low, middle, high = (Decimal(whole[name]) for name in ("p10", "p50", "p90"))
    assert Decimal(whole["won"]) < low < middle < high
    deals = figures(Question("outlook-deals", TODAY, QUARTER))["rows"]
    assert [row["chance"] for row in deals] == sorted((row["chance"] for row in deals), reverse=True)
    first = deals[0]
    assert f"Of {first['n']} deals" in first["reason"]
    assert f"{first['k']} were won within {first['within']} days" in first["reason"]
    assert abs(first["k"] / first["n"] - first["by_age"]) < 0.1
    over = ask("outlook", "FY2027-Q2", DAY)[""]
    assert (over["mean"], over["reason"]) == (over["won"], "The period is over: nothing is left to be expected.")


def test_a_rep_is_told_of_own_deals_alone(demo):
    viewer = viewer_of(Person.objects.get(key="r01"))
    own = {row["key"] for row in figures(Question("outlook-deals", TODAY, QUARTER), viewer)["rows"]}
    everybodys = {row["key"] for row in figures(Question("outlook-deals", TODAY, QUARTER))["rows"]}
    assert own < everybodys
    assert own == {row["key"] for row in figures(Question("outlook-deals", TODAY, QUARTER, person="r01"))["rows"]}
