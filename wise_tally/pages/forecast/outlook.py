"""The outlook: what the period will likely bring, what that is built of, and which deals decide it, with the reason for each chance."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

from django.http import HttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.utils.safestring import SafeString
from django.views.decorators.http import require_safe

from wise_tally.core.answers.outlook import of_outlook, why_it_leads
from wise_tally.core.observed_weight import observed_probabilities
from wise_tally.core.outlook.expected import ACTUAL, AS_SET, CHANCE, MEAN, OUTLOOK, WAYS, DealAtStake, Expected
from wise_tally.core.outlook.trust import Trust
from wise_tally.domain.formats import short
from wise_tally.pages.forecast.bins import Largest, bins_of, outcome_chart
from wise_tally.web.answers import answer_sentence, span_of, workings
from wise_tally.web.chances import ChanceOfDeal, chances_of
from wise_tally.web.deal_rows import DealRow, deal_rows
from wise_tally.web.expectation import expected_of, leading_way, trust_of
from wise_tally.web.files.tables import Sheet, chosen_sheet, exports
from wise_tally.web.filter_line import FilterLine, period_words, read_scope
from wise_tally.web.footer import Footer
from wise_tally.web.ink import InkBar, ink_bar
from wise_tally.web.nodes import scope_node, whole_attainment
from wise_tally.web.page_query import PageQuery, choice
from wise_tally.web.request.viewing import PageRequest

MOST_DEALS = 8
WAY_WORDS = {OUTLOOK: "the outlook", AS_SET: "set probabilities", ACTUAL: "actual win rates"}


@dataclass(frozen=True)
class OutlookQuery(PageQuery):
    """By which chances open deals count; empty: by what leads."""

    chances: str = choice(("", *WAYS))

    @cached_property
    def trust(self) -> Trust:
        """What leads, and why."""
        return trust_of(self.line)

    @property
    def way(self) -> str:
        """The chances shown: those asked for, where there are any; else those that lead."""
        leads = leading_way(self.trust)
        return leads if not self.chances or (self.chances == OUTLOOK and not self._has_outlook) else self.chances

    @property
    def _has_outlook(self) -> bool:
        return self.trust.shown or self.trust.over

    @property
    def ways(self) -> dict[str, str]:
        """What there is to choose from."""
        return {way: words for way, words in WAY_WORDS.items() if way != OUTLOOK or self._has_outlook}


@dataclass(frozen=True)
class ShownStake:
    """A deal that matters, its row and what its chance rests on."""

    row: DealRow
    stake: DealAtStake
    chance: ChanceOfDeal | None
    why: SafeString | None


def _read(request: PageRequest) -> tuple[OutlookQuery, int | None, Expected]:
    """The question, the quota and what is expected."""
    line = read_scope(request)
    query, quota = OutlookQuery.read(line, request.GET), whole_attainment(line).forecast.quota
    return query, quota, expected_of(line, query.way, quota, MOST_DEALS)


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """Where the period may end, what that is built of, and the deals that decide it."""
    query, quota, outlook = _read(request)
    line, way = query.line, query.way
    answer = {
        "page_query": query,
        "why": answer_sentence(why_it_leads(query.trust), {}),
        "ways": replace(query, chances=way).links("chances", query.ways),
        "quota": quota,
        "node": scope_node(line)[2],
        "outlook": outlook,
        "built": _built(outlook, way, quota),
        "figures": {"mean": MEAN[way], "chance": CHANCE[way]},
        **_distribution(query, quota, outlook),
        "stages_as_set": _stages_as_set(line) if way == ACTUAL else "",
        "footer": Footer(outlook.open_deals, exports=exports("forecast:outlook-table", query.query())),
    }
    return render(request, "forecast/outlook.html", answer)


def _distribution(query: OutlookQuery, quota: int | None, outlook: Expected) -> dict[str, Any]:
    """The outcomes and their chances, in a sentence and as columns, with the deals that matter."""
    line, way, outcome = query.line, query.way, outlook.outcome
    p10, p50, p90 = (outcome.quantile(q) for q in (0.1, 0.5, 0.9))
    parameters = f"{line.query()}&node={scope_node(line)[2]}"
    mean, chance = (f"{reverse('forecast:working', args=[figure])}?{parameters}" for figure in (MEAN[way], CHANCE[way]))
    sentence = of_outlook(span_of(line), outlook.mean_minor, p10, p90, quota, outcome.chance_of(quota))
    deals, bins = _shown_stakes(line, outlook.deals, way), bins_of(outcome)
    of_bins = [f"{chance}&part={part}" for part in range(len(bins))]
    drawn = outlook.open_deals or outlook.to_come
    return {
        "answer_sentence": answer_sentence(
            sentence, {**workings("forecast:working", parameters, "won"), "mean": mean, "chance": chance}
        ),
        "ends": (p10, p50, p90),
        "chance": outcome.chance_of(quota),
        "chart": outcome_chart(outcome, quota, of_bins, _largest(deals)) if drawn else None,
        "bins": bins,
        "deals": deals,
    }


@dataclass(frozen=True)
class Built:
    """A part of the mean: its words, a remark, its figure and value in minor units, and the grade of its bar."""

    words: str
    more: str
    figure: str
    minor: int
    grade: str


def _built(outlook: Expected, way: str, quota: int | None) -> tuple[list[Built], InkBar]:
    parts = [
        Built("Won so far", "", "won", outlook.won_minor, "won"),
        Built(
            "Open deals by chance",
            f"{outlook.open_deals} deals, {short(outlook.face_minor)} in full",
            "outlook_open" if way == OUTLOOK else "weighted_open",
            outlook.open_minor,
            "commit",
        ),
    ]
    if way == OUTLOOK:
        number = (
            f"about {outlook.to_come:.0f} deals"
            if outlook.to_come >= 1.5
            else "about one deal"
            if outlook.to_come >= 0.5
            else "hardly any"
        )
        parts.append(
            Built(
                "Still to come", f"not in the pipeline yet, {number}", "outlook_to_come", outlook.to_come_minor, "early"
            )
        )
    largest = max(outlook.mean_minor, quota or 0, 1)
    return parts, ink_bar(outlook.won_minor, [outlook.open_minor, outlook.to_come_minor], quota, None, largest)


def _shown_stakes(line: FilterLine, stakes: tuple[DealAtStake, ...], way: str) -> list[ShownStake]:
    """The deals that matter with the reason for each chance."""
    rows = deal_rows(line, [stake.row for stake in stakes])
    reasons = chances_of(line, [stake.row for stake in stakes]) if way == OUTLOOK else {}
    return [
        ShownStake(
            rows[stake.row],
            stake,
            reasons.get(stake.row),
            reasons[stake.row].words(line) if stake.row in reasons else None,
        )
        for stake in stakes
        if stake.row in rows
    ]


def _largest(deals: list[ShownStake]) -> Largest | None:
    """The largest of the deals that matter, by the first part of its name."""
    one = max(deals, key=lambda deal: deal.stake.amount_minor, default=None)
    if one is None:
        return None
    return Largest(one.row.name.split(", ")[0], one.stake.amount_minor, round(one.stake.chance * 10_000))


def _stages_as_set(line: FilterLine) -> str:
    observed, stages = observed_probabilities(line.book, line.snapshot, line.period), line.book.reference.stages
    names = ", ".join(stages[stage].name for stage in sorted(observed.stages_as_set))
    sentence = (
        f"Actual win rate: share won of the deals that first reached the stage in {period_words(observed.look_back)}"
    )
    return (
        f"{sentence}; for {names} there are too few closed deals, so the set probability is used."
        if names
        else f"{sentence}."
    )


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """The drawn distribution, what the mean is built of, or the deals that matter, as a table."""
    query, quota, outlook = _read(request)
    sheets: dict[str, Callable[[], Sheet]] = {
        "": lambda: _bins_sheet(outlook),
        "built": lambda: _built_sheet(outlook, query.way, quota),
        "deals": lambda: _deals_sheet(query.line, outlook, query.way),
    }
    return chosen_sheet(request, sheets, kind)


def _bins_sheet(outlook: Expected) -> Sheet:
    rows = [(one.from_minor, one.to_minor, round(one.chance, 6)) for one in bins_of(outlook.outcome)]
    return Sheet("outlook", ("from", "to", "chance"), frozenset({"from", "to"}), rows)


def _built_sheet(outlook: Expected, way: str, quota: int | None) -> Sheet:
    rows = [(one.words, one.minor) for one in _built(outlook, way, quota)[0]]
    return Sheet("average", ("part", "amount"), frozenset({"amount"}), [*rows, ("average", outlook.mean_minor)])


def _deals_sheet(line: FilterLine, outlook: Expected, way: str) -> Sheet:
    rows = [
        (
            one.row.name,
            one.row.stage_name,
            int(one.row.days_in_stage),
            one.stake.amount_minor,
            one.stake.chance,
            one.stake.adds_minor,
            one.stake.if_won,
            one.stake.if_lost,
            one.chance.plain if one.chance else "",
        )
        for one in _shown_stakes(line, outlook.deals, way)
    ]
    header = (
        "deal",
        "stage",
        "days in stage",
        "amount",
        "chance",
        "adds",
        "chance of quota if won",
        "if lost",
        "reason",
    )
    return Sheet("deals that matter most", header, frozenset({"amount", "adds"}), rows)
