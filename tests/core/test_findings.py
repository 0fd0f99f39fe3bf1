"""Every kind of finding in a world in which it must appear, its money worked out by hand, and in one in which it must not; ranking."""

from dataclasses import replace
from datetime import timedelta
from typing import NamedTuple

import numpy as np
import pytest

from tests.support.small_books import FIRST, IS_LOST, IS_WON, SECOND, book_of, day, moment, reference
from wise_tally.core.activity import DoneActivities
from wise_tally.core.findings.bounds import Bounds
from wise_tally.core.findings.finding import KINDS, Subject
from wise_tally.core.findings.put_aside import Aside, not_aside
from wise_tally.core.findings.question import Customers, Question, Surroundings, Waiting
from wise_tally.core.findings.ranking import PLACES, brief_of, findings, together
from wise_tally.core.leads import LeadRows
from wise_tally.core.lines import Filter
from wise_tally.core.outlook.expected import AS_SET, OUTLOOK
from wise_tally.core.reference_data import Call, Category, Quota
from wise_tally.core.trees import NONE

TODAY = day("2026-03-10")
QUARTER = reference().fiscal.parse("FY2026-Q1")
NOTHING = np.zeros(0, dtype=np.int64)


def ago(days):
    """So many days before today."""
    return TODAY - timedelta(days=days)


def ahead(days):
    """So many days after today."""
    return TODAY + timedelta(days=days)


SOON, LATELY = ahead(5), ago(20)


def still_open(amount=100, close=SOON, created=LATELY, owner=0, stage=FIRST):
    """An open deal due within the quarter."""
    return [(created, stage, amount, close), owner]


def closed(stage, on, amount=100, took=10, owner=0):
    """A deal that was won or lost on a day, so many days after it came."""
    return [(on - timedelta(days=took), FIRST, amount, on), (on, stage, amount, on), owner]


def quota(value, subject="company", index=NONE, metric="won_amount", filters=("", "", "", "")):
    """A target of the quarter, or of March for activities."""
    first = day("2026-03-01") if metric == "activities" else QUARTER.starts_on
    last = day("2026-03-31") if metric == "activities" else QUARTER.ends_on
    return Quota(subject, index, metric, first.toordinal(), last.toordinal(), value, filters)


def leads(number, days_back, won=()):
    """Leads that came so many days ago, some of which became a deal (index)."""
    created = np.array([moment(ago(days_back + n % 3)) for n in range(number)])
    none = np.full(number, NONE)
    deal = none.copy()
    deal[: len(won)] = won
    status = np.where(deal >= 0, 2, 0)
    return LeadRows(
        none, none, created, np.zeros(number, dtype=np.int64), status, deal, np.zeros((number, 0), dtype=np.int64)
    )


def both(one, other):
    """Leads of two groups."""
    return LeadRows(*(np.concatenate([getattr(one, name), getattr(other, name)]) for name in one.__dataclass_fields__))


def all_lack(deal):
    """No deal has a next step."""
    return np.ones(len(deal), dtype=bool)


class World(NamedTuple):
    """What a question is asked of: deals, reference data, what the book does not hold, and chances of the open deals where told."""

    deals: tuple = ()
    ground: object = None
    beside: dict = {}
    chances: tuple = ()
    missing: object = None


def question(world, **more):
    """The question of a world on the day, of everybody."""
    book = book_of(list(world.deals) or [still_open(0, None, ago(400))], world.ground)
    snapshot, size = book.as_of(TODAY), len(book.deals.key)
    none = NOTHING
    nobody = Customers(none, (), none, none, none, none, none, none, none)
    usual = {
        "silent_days": np.zeros(size), "missed": np.zeros(size, dtype=np.int64), "lacks_step": lambda deal: np.zeros(len(deal), dtype=bool),
        "customer": np.zeros(size, dtype=np.int64), "customers": nobody, "leads": leads(0, 0), "waiting": (),
        "done": DoneActivities(none, none, none, none),
        "reasons": ((), np.full(len(snapshot.deal), NONE)), "competitors": ((), np.full(len(snapshot.deal), NONE)),
    }  # fmt: skip
    beside = Surroundings(
        **{
            **usual,
            **{name: np.asarray(value) if isinstance(value, list) else value for name, value in world.beside.items()},
        }
    )
    way = OUTLOOK if world.chances else AS_SET
    asked = Question(book, snapshot, book.as_of(ago(7)), QUARTER, Filter(), "company", 0, way, beside, **more)
    if world.chances:
        # Chances as if told, so that worlds need no history of hundreds of deals.
        asked.__dict__["open"] = replace(asked.open, chance=np.array(world.chances))
    return asked


def of_kind(world, kind):
    """The findings of a kind."""
    return [one for one in findings(question(world)) if one.kind.key == kind]


def with_quotas(*quotas, **more):
    """Reference data with targets."""
    return replace(reference(**more), quotas=quotas)


def categories():
    """Three categories; deals of the first stage are early, those of the second commit."""
    base = reference()
    stages = tuple(replace(stage, base=replace(stage.base, category=category))
                   for stage, category in zip(base.stages, (2, 0, 0, 0), strict=True))  # fmt: skip
    named = tuple(
        Category(key, key.title(), rank, True) for rank, key in enumerate(("commit", "best_case", "early"), 1)
    )
    return replace(base, stages=stages, categories=named)


def submitted(*amounts, people=2):
    """Ann submitted these for the quarters that are over, the latest first, and Bob one for this quarter."""
    base, calls = reference(people=("ann", "bob")[:people]), []
    for step, amount in enumerate(amounts, 1):
        span = base.fiscal.shifted(QUARTER, -step)
        calls.append(
            Call("person", 0, span.starts_on.toordinal(), span.ends_on.toordinal(), moment(span.starts_on), 0, amount)
        )
    if people == 2:
        span = QUARTER
        calls.append(Call("person", 1, span.starts_on.toordinal(), span.ends_on.toordinal(), moment(ago(20)), 1, 50))
    return replace(base, calls=tuple(calls))


EACH_QUARTER = (closed(IS_WON, day("2025-11-20")), closed(IS_WON, day("2025-08-20")), closed(IS_WON, day("2025-05-20")))
# Of ten stays of Ann in the first stage nine went past its ten days, of sixty of Bob none.
STAYS = [closed(IS_WON, ago(100 + n), took=5 if n == 0 else 30) for n in range(10)]
OTHERS = [closed(IS_WON, ago(100 + n), took=5, owner=1) for n in range(60)]
TWO = {"people": ("ann", "bob"), "typical_days": (10.0, None)}


def results(now, before, amount_now=100, amount_before=100, took_now=10, took_before=10):
    """Deals closed lately and in the year before: (won, lost) of each."""
    found = []
    for (won, lost), first, amount, took in ((now, 5, amount_now, took_now), (before, 120, amount_before, took_before)):
        for stage, number in ((IS_WON, won), (IS_LOST, lost)):
            # Amounts and days differ by a fifth, as in life.
            found += [
                closed(stage, ago(first + n % 60), amount + n % 5 * amount // 20, took + n % 3) for n in range(number)
            ]
    return tuple(found)


def lost_for(now, before):
    """Forty deals lost lately, so many of them for the price, and a hundred in the year before."""
    deals = results((0, 40), (0, 100))
    place = [0 if n < now else 1 for n in range(40)] + [0 if n < before else 1 for n in range(100)]
    return World(deals, beside={"reasons": (("price", "time"), np.array(place))})


def customers(owed=0, since=0, now=100, before=100, invoices=(10, 10)):
    """One customer, whose the first deal is."""
    one = [
        np.array([value], dtype=np.int64)
        for value in (7, owed, ago(since).toordinal() if owed else 0, now, before, *invoices, 0)
    ]
    return Customers(one[0], ("ac",), *one[1:])


def done(number):
    """Ann's phone calls of this month."""
    return DoneActivities(*(np.array([value], dtype=np.int64) for value in (0, 0, ago(2).toordinal(), number)))


CALLS = quota(3_100, "person", 0, "activities", ("", "", "", "phone"))
PARTS = (quota(600, "person", 0), quota(300, "person", 1))
FIVE = tuple(still_open(100 - n) for n in range(5))
# Of each kind a world with its money at stake, and one without it.
WORLDS = {
    # Quota 1 000, nothing won; the deal brings 50 on average.
    "forecast_gap": (World((still_open(),), with_quotas(quota(1_000))), 950, World((still_open(),))),
    "will_miss": (World((still_open(),), with_quotas(quota(1_000, "person", 0))), 950,
                  World((closed(IS_WON, ago(3)),), with_quotas(quota(100, "person", 0)))),
    "ahead": (World((closed(IS_WON, ago(3)),), with_quotas(quota(80, "person", 0))), 20,
              World((closed(IS_WON, ago(3)),), with_quotas(quota(95, "person", 0)))),
    # With it 1 500 of 1 000, without it nothing.
    "decides": (World((still_open(1_500),), with_quotas(quota(1_000))), 1_500,
                World((still_open(1_500), closed(IS_WON, ago(3), 1_000)), with_quotas(quota(1_000)))),
    "claims": (World((still_open(stage=SECOND),), categories(), chances=(0.3,)), 100,
               World((still_open(stage=SECOND),), categories(), chances=(0.6,))),
    "stalled": (World((still_open(created=ago(20)),), reference(typical_days=(10.0, None))), 100,
                World((still_open(created=ago(14)),), reference(typical_days=(10.0, None)))),
    "pushed": (World(([(ago(20), FIRST, 100, ahead(1)), (ago(9), FIRST, 100, ahead(2)), (ago(3), FIRST, 100, ahead(3))],)), 100,
               World(([(ago(20), FIRST, 100, ahead(1)), (ago(9), FIRST, 100, ahead(2))],))),
    "no_next_step": (World((still_open(),), beside={"lacks_step": all_lack}), 100, World((still_open(),))),
    "no_contact": (World((still_open(),), beside={"missed": [2], "silent_days": [29.0]}), 100,
                   World((still_open(),), beside={"missed": [1]})),
    "close_past": (World((still_open(close=ago(1)),)), 100, World((still_open(close=TODAY),))),
    "closes_late": (World((still_open(close=day("2026-03-25")),)), 100, World((still_open(close=day("2026-03-24")),))),
    # 100 at 60 %.
    "likely": (World((still_open(),), categories(), chances=(0.6,)), 60, World((still_open(stage=SECOND),), categories(), chances=(0.6,))),
    # 200, of which 20 by chance; one such deal is a finding of its own.
    "unlikely": (World((still_open(stage=SECOND), still_open(stage=SECOND)), categories(), chances=(0.1, 0.1)), 180,
                 World((still_open(stage=SECOND),), categories(), chances=(0.1,))),
    # Three times 150 where 100 was won: of the 150 submitted last a third is at stake.
    "calls_off": (World(EACH_QUARTER, submitted(150, 150, 150)), 50, World(EACH_QUARTER, submitted(150, 105, 150))),
    "stays_long": (World((*STAYS, *OTHERS, still_open(40, created=ago(3))), reference(**TWO)), 40,
                   World((*STAYS[:2], *OTHERS, still_open()), reference(**TWO))),
    "not_submitted": (World((still_open(),), submitted()), 50, World((still_open(owner=1),), submitted())),
    # One call of the ten that are due by the tenth: nine tenths of 50.
    "activity_below": (World((still_open(),), with_quotas(CALLS), {"done": done(1)}), 45,
                       World((still_open(),), with_quotas(CALLS), {"done": done(8)})),
    # Set to 50 %, seen 10 % of 40: two fifths of the open 100.
    "stage_off": (World((*results((4, 36), (0, 0)), still_open())), 40,
                  World((*results((20, 20), (0, 0)), still_open()), reference(probability_bp=(5_000, 10_000)))),
    # 40 closed, 60 % of them won before and 10 % now, at 100 to 120 each.
    "win_rate": (World(results((4, 36), (60, 40), 100, 100)), 2_180, World(results((20, 20), (60, 40)))),
    "deal_size": (World(results((30, 0), (40, 0), 100, 400)), 30 * 330, World(results((30, 0), (40, 0)))),
    # Half of the open 100 by chance, ten times as long: no more than all of it.
    "days_to_win": (World((*results((30, 0), (40, 0), took_now=60, took_before=6), still_open())), 50,
                    World((*results((30, 0), (40, 0)), still_open()))),
    # Half of forty instead of a tenth: sixteen more at 110 each.
    "losses": (lost_for(20, 10), 16 * 110, lost_for(6, 10)),
    "fewer_deals": (World((*results((0, 0), (60, 60)), still_open(created=ago(10)))), None,
                    World(tuple(closed(IS_WON, ago(n), took=1) for n in range(1, 390, 3)))),
    "fewer_leads": (World((closed(IS_WON, ago(30), 130),), beside={"leads": leads(130, 60, won=(0,))}), 10,
                    World(beside={"leads": both(leads(130, 60), leads(9, 4))})),
    "leads_waiting": (World((closed(IS_WON, ago(30), 500),),
                            beside={"leads": leads(10, 60, won=(0,)), "waiting": (Waiting(3, NONE, 3.5),)}), 50,
                      World(beside={"leads": leads(10, 60), "waiting": (Waiting(3, NONE, 3.0),)})),
    "owes": (World((still_open(),), beside={"customer": [7], "customers": customers(5, 40)}), 100,
             World((still_open(),), beside={"customer": [7], "customers": customers(5, 29)})),
    "sales_fall": (World(beside={"customers": customers(now=200, before=900, invoices=(4, 30))}), 700,
                   World(beside={"customers": customers(now=200, before=900, invoices=(8, 10))})),
    "silent": (World((still_open(),), beside={"missed": [1]}), 100, World((still_open(),))),
    "undated": (World((still_open(close=None),)), 100, World((still_open(),))),
    "overdue": (World((still_open(close=ago(1)),)), 100, World((still_open(close=TODAY),))),
    "no_amount": (World((still_open(0), still_open(80))), 80, World((still_open(80),))),
    "no_owner": (World((still_open(),), beside={"left": [0]}), 100, World((still_open(),), beside={"left": [1]})),
    "twins": (World((still_open(), still_open(created=ago(40))), beside={"customer": [7, 7]}), 100,
              World((still_open(), still_open(created=ago(51))), beside={"customer": [7, 7]})),
    "target_parts": (World((), with_quotas(quota(1_000), *PARTS, people=("ann", "bob"))), 100,
                     World((), with_quotas(quota(900), *PARTS, people=("ann", "bob")))),
}  # fmt: skip


def test_every_kind_has_a_world():
    assert set(WORLDS) == set(KINDS)


@pytest.mark.parametrize("kind", WORLDS)
def test_a_finding_appears_where_it_must(kind):
    world, minor, _ = WORLDS[kind]
    found = of_kind(world, kind)
    assert len(found) == 1, [one.key for one in findings(question(world))]
    one = found[0]
    if minor is not None:
        assert one.money_minor == minor
    assert one.terms, "how the money is worked out"
    assert 0 < one.changeable <= 1
    places = set(one.sentence.sentence.replace("{", "}").split("}")[1::2])
    assert places == set(one.sentence.parts), "every figure has its place, every place its figure"


@pytest.mark.parametrize("kind", WORLDS)
def test_a_finding_does_not_appear_where_it_must_not(kind):
    assert not of_kind(WORLDS[kind][2], kind)


def test_bounds_decide_what_is_found():
    world = World((still_open(created=ago(20)),), reference(typical_days=(10.0, None)))
    for times, found in ((1.9, 1), (2.1, 0)):
        asked = question(world, bounds=Bounds(usual_days_times=times))
        assert sum(one.kind.key == "stalled" for one in findings(asked)) == found


def test_a_brief_is_spread_and_tells_one_deal_once():
    """A deal pushed, silent and without next step stands in one line; no family takes more than its places while others wait."""
    pushed = [(ago(20), FIRST, 100, ahead(1)), (ago(9), FIRST, 100, ahead(2)), (ago(3), FIRST, 100, ahead(20))]
    world = World((pushed, *(still_open(90 - n) for n in range(6))), with_quotas(quota(1_000), CALLS),
                  beside={"lacks_step": all_lack, "missed": [3] + [0] * 6, "done": done(0)})  # fmt: skip
    everything = findings(question(world))
    brief = brief_of(everything)
    assert len(brief) <= 8
    subjects = [one.subject for one in brief if one.subject.about == "deal"]
    assert len(subjects) == len(set(subjects))
    about = next(one for one in brief if one.subject == Subject("deal", "d0", 0))
    kinds = {about.kind.key, *(one.kind.key for one in about.also)}
    assert {"pushed", "no_contact", "no_next_step"} <= kinds
    assert [one.score for one in brief] == sorted((one.score for one in brief), reverse=True)
    assert sum(PLACES.values()) == 8
    merged = [one.subject.key for one in together(everything) if one.subject.about == "deal"]
    assert len(merged) == len(set(merged)) == 5, "of few deals five are big"


@pytest.mark.parametrize(
    ("aside", "shown"),
    [
        (Aside(100, None), False),
        (Aside(80, None), True),
        (Aside(81, None), False),
        (Aside(100, ahead(1)), False),
        (Aside(100, TODAY), True),
    ],
)
def test_what_was_put_aside_comes_back_by_a_day_or_a_quarter_more_money(aside, shown):
    found = of_kind(World((still_open(close=None),)), "undated")
    assert bool(not_aside(found, {found[0].key: aside}, TODAY)) is shown
