"""Sentences of the pages: every situation is told as it is, every place is filled by a figure that was given.

The wording is our own; that a sentence names what holds a gap, and speaks of no rate from fewer than twenty deals, is
common practice.
"""

import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wise_tally.core.answers import conversion, forecast, outlook, results
from wise_tally.core.answers.answer import Answer, Span
from wise_tally.core.answers.conversion import StageTime, Step
from wise_tally.core.answers.forecast import Stake
from wise_tally.core.commission import CommissionSum

NOW, OVER = Span("quarter", 32), Span("quarter", 0)
BIG, SMALL = Stake("Barrage", 420, 0.61, 0.0), Stake("Buoy", 20, 0.55, 0.51)


def told(answer: Answer) -> str:
    """The sentence with its raw figures put in."""
    shown = {name: f"{part.value} {part.noun}".strip() for name, part in answer.parts.items()}
    return answer.sentence.format(**shown)


FORECAST = [
    ((NOW, 0, 0, 0, 100), "Nothing won and nothing open in this quarter yet."),
    ((NOW, 30, 70, 60, None), "70 expected, 30 of it won; no quota is set."),
    ((NOW, 120, 150, 40, 100), "Quota reached: 20 above it, and 30 more expected."),
    ((NOW, 50, 90, 420, 100, [SMALL, BIG]), "Forecast 10 short of quota: Barrage (420) decides the quarter."),
    ((NOW, 50, 110, 420, 100, [BIG]), "Forecast 10 above quota: Barrage (420) decides the quarter."),
    ((NOW, 50, 110, 80, 100, [SMALL]), "Forecast 10 above quota; 50 of it still has to be won."),
    ((NOW, 50, 60, 40, 100), "Even if every deal due this quarter is won, 10 short of quota."),
    ((NOW, 50, 60, 100, 100), "Forecast 40 short of quota; 100 is still open."),
    ((OVER, 50, 50, 0, 100), "The quarter ended 50 short of quota, at 0.5."),
    ((OVER, 130, 130, 0, 100), "The quarter ended 30 above quota."),
]
DASHBOARD = [
    ((NOW, 40, None), "40 won this quarter; no quota is set."),
    ((OVER, 40, 100), "The quarter ended 60 short of quota, at 0.4."),
    ((NOW, 110, 100), "Quota reached with 32 day to go: 10 above it."),
    ((NOW, 40, 100), "60 to go in 32 day, and nothing is open in this quarter."),
    ((NOW, 40, 100, [BIG]), "60 to go in 32 day, and Barrage holds 60 of it."),
    ((NOW, 40, 1000, [BIG]), "960 to go in 32 day, and Barrage holds 420 of it."),
    ((NOW, 40, 100, [Stake("Buoy", 19, None, None)]), "60 to go in 32 day, spread over many deals."),
]
TREND = [
    ((NOW, 0, None, None), "Nothing won in this quarter yet."),
    ((NOW, 5, None, None), "5 won so far this quarter; no quota is set."),
    ((NOW, 60, 50, 100), "60 won, 10 ahead of the target to date."),
    ((NOW, 40, 50, 100), "40 won, 10 behind the target to date."),
    ((OVER, 40, 100, 100), "The quarter ended 60 short of quota, at 0.4."),
]
OUTLOOK = [
    ((OVER, 7, 7, 7, 5, 1.0), "The quarter ended with 7 won."),
    ((NOW, 5, 3, 8, None, None), "Likely 5, eight times in ten between 3 and 8; no quota is set."),
    ((NOW, 5, 3, 8, 7, 0.3), "Likely 5, 2 short of quota; the chance of reaching it is 0.3."),
    ((NOW, 9, 3, 12, 7, 0.8), "Likely 9, 2 above quota; the chance of reaching it is 0.8."),
]
CHANGE = [
    ((10, 10, [("won", 0)], "1 Nov", "Weighted"), "Weighted has not moved since 1 Nov."),
    ((10, 30, [("won", 25), ("lost", -5)], "1 Nov", "Weighted"), "Weighted is up 20 since 1 Nov, mostly “won”, 25."),
    ((30, 10, [("won", 5), ("lost", -25)], "1 Nov", "Weighted"), "Weighted is down 20 since 1 Nov, mostly “lost”, -25."),
    ((10, 12, [("a", 9), ("b", 8), ("lost", -15)], "1 Nov", "Weighted"),
     "Weighted is up 2 since 1 Nov, though “lost” moved it -15."),
    ((10, 10, [("won", 9), ("lost", -9)], "1 Nov", "Weighted"),
     "Weighted is where it was on 1 Nov; the largest cause was “won”, 9."),
]  # fmt: skip
SUBMITTED = [
    ((NOW, None, 100, 4, 4), "No forecast submitted for this quarter yet."),
    ((NOW, 30, 100, 3, 4), "30 submitted so far; 3 rep still to submit."),
    ((NOW, 90, 100, 1, 4), "90 submitted, 10 short of quota; 1 rep still to submit."),
    ((NOW, 110, 100, 0, 4), "110 submitted, 10 above quota."),
    ((NOW, 110, None, 0, 4), "110 submitted; no quota is set."),
]
ACCURACY = [
    ((None, 0, "quarter", []), "No period is over yet, so no forecast can be checked."),
    ((None, 2, "quarter", []), "Nothing was submitted in the last 2 quarter."),
    ((0.04, 2, "month", [("Ann", 0.5)]), "Submitted forecasts came close to what was won in the last 2 month."),
    ((-0.2, 2, "month", [("Ann", -0.2)]), "Submitted forecasts ran 0.2 below what was won in the last 2 month."),
    ((0.2, 2, "month", [("Ann", 0.1), ("Bo", 0.5), ("Cy", -0.9)]),
     "Submitted forecasts ran 0.2 above what was won in the last 2 month, most with Bo: 0.5."),
    ((-0.2, 2, "month", [("Ann", 0.6), ("Bo", -0.5)]),
     "Submitted forecasts ran 0.2 below what was won in the last 2 month, most with Bo: 0.5."),
]  # fmt: skip
A, B = Step("Enquiry", 100, 60, 900, 0.6), Step("Offer", 40, 10, 50, 0.25)
CONVERSION = [
    ((0, 0, None, []), "No deals in this selection."),
    ((30, 11, 0.1, [A]), "Only 19 deal closed yet: too few to name a weak stage."),
    ((31, 11, 0.4, [Step("Enquiry", 31, 0, 0, 0.0)]), "No deal was lost: 0.4 are won."),
    ((100, 0, 0.1, [B, A]), "Enquiry loses most: 60 of 100 deal stop there, worth 900."),
    ((100, 0, 0.1, [A, Step("Plan", 40, 70, 5, 0.2)]),
     "Enquiry loses the largest share: 60 of 100 deal stop there, worth 900."),
]  # fmt: skip
TIME = [
    (([],), "No deal entered a stage in this selection."),
    (([StageTime("Offer", 9.0, 10, 0)],), "No stage takes longer than its typical days."),
    (([StageTime("Offer", 19.0, 10, 0), StageTime("Plan", 15.0, 10, 0)],),
     "Offer takes longest beyond typical: median 19.0 against 10."),
    (([StageTime("Offer", 9.0, 10, 3), StageTime("Plan", 9.0, 10, 1)],),
     "4 stalled deal, most of them in Offer."),
    (([StageTime("Offer", 9.0, 10, 3), StageTime("Plan", 9.0, 10, 0)],), "3 stalled deal, in Offer."),
    (([StageTime("Offer", 9.0, 10, 2), StageTime("Plan", 9.0, 10, 2), StageTime("Terms", 9.0, 9, 1)],),
     "5 stalled deal, 2 of them in Offer."),
]  # fmt: skip
LOSSES = [
    ((0, 0, None, [], "reason", "May"), "No deal was lost in this selection."),
    ((3, 0, None, [("Price", 0)], "reason", "May"), "3 deal lost, none with an amount."),
    ((3, 80, 78, [("Ann", 60), ("Ben", 20)], "person", "May"), "80 lost; Ann accounts for the most, 0.75 of it."),
    ((3, 80, 78, [("Price", 60), ("None", 20)], "reason", "May"), "80 lost; Price is the largest reason, 0.75 of it."),
    (
        (3, 80, 64, [("Price", 60), ("None", 20)], "reason", "May"),
        "80 lost, 0.25 more than in May; Price is the largest reason, 0.75 of it.",
    ),
    ((3, 80, 160, [("Price", 80)], "stage", "May"), "80 lost, 0.5 less than in May, all of it to one stage: Price."),
]
LEADS = [
    ((0, 0, 0, 0, None), "No leads came in this period."),
    ((9, 4, 0, 0, 0.0), "None of 9 lead is qualified yet; 4 still open."),
    ((9, 5, 2, 1, 0.2), "5 of 9 lead still open: it is early to judge."),
    ((9, 1, 3, 0, 0.3), "0.3 of 9 lead qualified, none won yet."),
    ((9, 1, 3, 2, 0.3), "0.3 of 9 lead qualified, 2 won."),
]
CHECK = [
    (([("Offer", None, 0.6, None)],), "Too few closed deals to check any probability yet."),
    (([("Offer", False, 0.6, 0.6)],), "Offer is in line with the actual win rate."),
    (([("Offer", False, 0.6, 0.6), ("Plan", False, 0.3, 0.3)],), "All 2 stage with enough deals are in line with the actual win rate."),
    (([("Offer", True, 0.6, 0.4), ("Plan", False, 0.3, 0.3)],), "One stage is off: Offer is set at 0.6, and 0.4 were won."),
    (([("Offer", True, 0.6, 0.4), ("Plan", True, 0.5, 0.1)],),
     "2 of 2 stage are off, most of all Plan: set at 0.5, and 0.1 were won."),
]  # fmt: skip
MONTH = [
    (("October", 0, None, []), "No new deals in two years of this selection."),
    (("October", 40, None, []), "40 new deal in October."),
    (("October", 40, 41.0, []), "40 new deal in October, as in an average month of the year before."),
    (("October", 60, 40.4, []), "60 new deal in October, above the average of 40 a month in the year before."),
    (("October", 60, 40.0, ["win rate"]), "Unusual in October: win rate; 60 new deal."),
]
ATTAINMENT = [
    ((NOW, 0, None, None, []), "Nothing won yet, and no quota is set."),
    ((NOW, 5, None, None, [], False), "5 done so far; no quota is set."),
    ((NOW, 5, 0, 100, []), "5 won; nothing is due by today yet."),
    (
        (NOW, 40, 50, 100, [("North", 4), ("South", 6)]),
        "40 won, 0.8 of the target to date; South is furthest behind, by 6.",
    ),
    ((NOW, 60, 50, 100, [("North", 4)]), "60 won, 1.2 of the target to date, though North is 4 behind."),
    ((NOW, 60, 50, 100, [("North", -4)]), "60 won, 1.2 of the target to date; nobody is behind."),
    ((OVER, 40, 100, 100, []), "The quarter ended at 0.4, 60 short of quota."),
    ((OVER, 140, 100, 100, []), "The quarter ended at 1.4, 40 above quota."),
]
COMPARED = [
    ((5, None, "Q2"), "5 won; there is no earlier period to compare with."),
    ((0, 0, "Q2"), "Nothing won in either period."),
    ((5, 0, "Q2"), "5 won, after nothing in Q2."),
    ((100, 104, "Q2"), "100 won, about as much as in Q2."),
    ((150, 100, "Q2"), "150 won, 0.5 more than in Q2."),
    ((50, 100, "Q2"), "50 won, 0.5 less than in Q2."),
]
CASH = [
    (([("Dec", 0, 0)],), "No payment is due in this period."),
    (([("Dec", 5, 2)],), "5 due from deals won, and 2 weighted from open ones."),
    (([("Dec", 5, 0), ("Jan", 1, 0)],), "6 due from deals won, most of it in Dec: 5."),
    (([("Dec", 0, 2), ("Jan", 0, 1)],), "Nothing due from deals won; 3 weighted from open ones."),
    (([("Dec", 5, 0), ("Jan", 1, 7)],), "6 due from deals won and 7 weighted from open ones, most in Jan: 8."),
]
COMMISSIONS = [
    ((CommissionSum(-1, 0, 0, 0, 0, 0, frozenset()), [], "person"), "No commissions in this period."),
    ((CommissionSum(-1, 90, 0, 0, 2, 2, frozenset("ab")), [("Ann", 0)], "person"), "2 deal, none with a commission rate."),
    ((CommissionSum(-1, 90, 9, 0, 1, 0, frozenset("a")), [("Ann", 9)], "partner"), "Ann earns 9 on 1 deal."),
    ((CommissionSum(-1, 70, 7, -2, 4, 1, frozenset("abc")), [("Ann", 1), ("Bo", 6)], "person"),
     "2 person earn 7 on 3 deal, after 2 clawed back; Bo earns most, 6."),
]  # fmt: skip
DEALS = [
    ((0, 0, 0, None), "No deals match these filters."),
    ((2, 0, 0, ("Buoy", 0)), "2 deal, none with an amount."),
    ((2, 30, 9, ("Buoy", 10)), "2 deal for 30; Buoy alone is 10 of it."),
    ((4, 31, 9, ("Buoy", 10)), "4 deal for 31, 9 of it weighted by probability."),
    ((1, 30, 0, ("Buoy", 30)), "1 deal for 30."),
]
DUE = [
    ((0, []), "Nothing is due today."),
    ((2, [("overdue", 2), ("stalled", 0)]), "2 deal to attend to: overdue."),
    ((3, [("overdue", 1), ("stalled", 2)]), "3 deal to attend to: stalled (2), overdue (1)."),
]
WEEK = [
    ((0, 5, [], False), "5 won; nobody planned to close a deal this week."),
    ((5, 6, [("Ann", True)], False), "6 won of 5 planned: the week’s plan is met."),
    ((9, 6, [("Ann", True)], False), "6 won of 9 planned for this week so far."),
    ((9, 6, [("Ann", True), ("Bo", False)], True), "6 won of 9 planned; 1 of 2 rep met their plan."),
]
BY_REP = [
    ((0, 0, []), "No deals in this selection."),
    ((2, 0, [("Ann", 0)]), "2 deal, none with an amount."),
    ((2, 9, [("Ann", 9)]), "2 deal for 9, all with Ann."),
    ((2, 10, [("Ann", 9), ("Bo", 1)]), "2 deal for 10; Ann holds 0.9 of it."),
    ((5, 10, [(name, 2) for name in "abcde"]), "5 deal for 10, well spread: a holds most, 0.2."),
]
MET = [
    (("Ann", NOW, 0, None, 0, None), "Ann has won nothing yet, and no quota is set."),
    (("Ann", NOW, 9, 0, 0, None), "Ann has won 9; no quota is set."),
    (("Ann", NOW, 12, 10, 5, ("Buoy", 5)), "Ann has reached quota, 2 above it."),
    (("Ann", OVER, 7, 10, 5, ("Buoy", 5)), "Ann ended the quarter 3 short of quota."),
    (("Ann", NOW, 7, 10, 0, None), "Ann is 3 short of quota, and nothing is due to close this quarter."),
    (("Ann", NOW, 7, 10, 5, ("Buoy", 3)), "Ann is 3 short of quota; Buoy alone would close the gap."),
    (("Ann", NOW, 1, 10, 5, ("Buoy", 3)), "Ann is 9 short of quota, and only 5 is due to close this quarter."),
    (("Ann", NOW, 5, 10, 6, ("Buoy", 3)), "Ann is 5 short of quota, with 6 due to close this quarter."),
]
GAPS = [
    (([5, 0], [("Ann", [5, 0])]), "Every deal was contacted within its interval."),
    (([5, 2, 1], [("Ann", [1, 2, 1]), ("Bo", [4, 0, 0])]), "3 deal not contacted within the interval, all with Ann."),
    (
        ([9, 2, 1], [("Ann", [0, 2, 1]), ("Bo", [9, 1, 0])]),
        "3 deal not contacted within the interval; Ann has most, 3.",
    ),
]
CASES = {
    forecast.of_forecast: FORECAST, forecast.of_dashboard: DASHBOARD, forecast.of_trend: TREND, outlook.of_outlook: OUTLOOK,
    forecast.of_change: CHANGE, forecast.of_submitted: SUBMITTED, forecast.of_accuracy: ACCURACY,
    conversion.of_conversion: CONVERSION, conversion.of_time_in_stage: TIME, conversion.of_losses: LOSSES, conversion.of_leads: LEADS,
    conversion.of_probability_check: CHECK, conversion.of_monthly_trend: MONTH, results.of_attainment: ATTAINMENT,
    results.of_comparison: COMPARED, results.of_cash: CASH, results.of_commissions: COMMISSIONS, results.of_deals: DEALS,
    results.of_due_today: DUE, results.of_week: WEEK, results.of_deals_by_rep: BY_REP, results.of_contact_gaps: GAPS,
    results.of_one_to_one: MET,
}  # fmt: skip


@pytest.mark.parametrize(
    ("page", "given_figures", "sentence"),
    [(page, *case) for page, cases in CASES.items() for case in cases],
    ids=lambda value: getattr(value, "__name__", ""),
)
def test_each_situation_is_told(page, given_figures, sentence):
    assert told(page(*given_figures)) == sentence


def test_every_answer_of_the_core_is_among_these():
    functions = {
        value
        for module in (forecast, conversion, results, outlook)
        for name, value in vars(module).items()
        if name.startswith("of_")
    }
    assert functions == set(CASES)


AMOUNTS = st.integers(0, 10**12)


@given(
    st.integers(0, 92), AMOUNTS, AMOUNTS, AMOUNTS, st.none() | AMOUNTS,
    st.lists(st.builds(Stake, st.text("ab{}", min_size=1), AMOUNTS, st.floats(0, 1), st.floats(0, 1)), max_size=3),
)  # fmt: skip
def test_a_sentence_has_a_figure_for_each_place_and_none_below_nothing(left, won, more, best, quota, stakes):
    span = Span("month", left)
    weighted = won + more
    for answer in (
        forecast.of_forecast(span, won, weighted, best, quota, stakes),
        forecast.of_dashboard(span, won, quota, stakes),
        forecast.of_trend(span, won, quota, quota),
    ):
        assert set(re.findall(r"\{(\w+)\}", answer.sentence)) == set(answer.parts)
        assert told(answer).endswith(".")
        assert "  " not in told(answer)
        assert all(part.value >= 0 for part in answer.parts.values() if part.kind == "money")
