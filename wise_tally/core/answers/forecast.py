"""Answers of the forecast's pages and of the dashboards. Amounts in minor units, chances from 0 to 1."""

from collections.abc import Sequence
from dataclasses import dataclass

from wise_tally.core.answers.answer import Answer, Part, Span, answer, many, named


@dataclass(frozen=True)
class Stake:
    """An open deal of the period: its name, its amount, and the chance of quota if it is won and if it is not."""

    name: str
    amount_minor: int
    chance_with: float | None
    chance_without: float | None

    @property
    def decides(self) -> bool:
        """Whether the quota is likelier reached than not with it, and likelier missed without."""
        return (self.chance_with or 0) >= 0.5 > (self.chance_without if self.chance_without is not None else 1)


def decisive(stakes: Sequence[Stake]) -> Stake | None:
    """The largest deal that decides the quota; None where none does."""
    return max((s for s in stakes if s.decides), key=lambda s: s.amount_minor, default=None)


def _ended(span: Span, won: int, quota: int) -> Answer:
    short = quota - won
    if short <= 0:
        return answer(f"The {span.word} ended {{over}} above quota.", over=Part(-short, figure="gap"))
    rate = Part(won / quota, "rate", "attainment")
    return answer(
        f"The {span.word} ended {{short}} short of quota, at {{rate}}.", short=Part(short, figure="gap"), rate=rate
    )


def of_forecast(
    span: Span, won: int, weighted: int, still_open: int, quota: int | None, stakes: Sequence[Stake] = ()
) -> Answer:
    """The forecast against the quota, and what holds the gap. `still_open` counts in full, due in the period."""
    best = won + still_open
    if not weighted and not best:
        return answer(f"Nothing won and nothing open in this {span.word} yet.")
    if not quota:
        return answer(
            "{weighted} expected, {won} of it won; no quota is set.",
            weighted=Part(weighted, figure="weighted"),
            won=Part(won, figure="won"),
        )
    if not span.days_left:
        return _ended(span, won, quota)
    short, one = quota - weighted, decisive(stakes)
    if won >= quota:
        over, more = Part(won - quota, figure="gap"), Part(weighted - won, figure="weighted_open")
        return answer("Quota reached: {over} above it, and {more} more expected.", over=over, more=more)
    if one is not None:
        parts = {"deal": named(one.name, "deal"), "amount": Part(one.amount_minor)}
        lead = "{gap} short of quota" if short > 0 else "{gap} above quota"
        return answer(
            f"Forecast {lead}: {{deal}} ({{amount}}) decides the {span.word}.",
            gap=Part(abs(short), figure="weighted_to_quota"),
            **parts,
        )
    if short <= 0:
        return answer(
            "Forecast {over} above quota; {gap} of it still has to be won.",
            over=Part(-short, figure="weighted_to_quota"),
            gap=Part(quota - won, figure="gap"),
        )
    if best < quota:
        return answer(
            f"Even if every deal due this {span.word} is won, {{short}} short of quota.",
            short=Part(quota - best, figure="open_to_quota"),
        )
    return answer(
        "Forecast {short} short of quota; {open} is still open.",
        short=Part(short, figure="weighted_to_quota"),
        open=Part(still_open, figure="open"),
    )


def of_dashboard(span: Span, won: int, quota: int | None, stakes: Sequence[Stake] = ()) -> Answer:
    """What is still to win, in how many days, and the deal that holds most of it."""
    if not quota:
        return answer(f"{{won}} won this {span.word}; no quota is set.", won=Part(won, figure="won"))
    if not span.days_left:
        return _ended(span, won, quota)
    gap = quota - won
    if gap <= 0:
        return answer(
            "Quota reached with {days} to go: {over} above it.",
            days=many(span.days_left, "day"),
            over=Part(-gap, figure="gap"),
        )
    to_go, days = Part(gap, figure="gap"), many(span.days_left, "day")
    largest = max(stakes, key=lambda s: s.amount_minor, default=None)
    if largest is None:
        return answer(f"{{gap}} to go in {{days}}, and nothing is open in this {span.word}.", gap=to_go, days=days)
    if largest.amount_minor * 3 >= gap:
        amount = Part(min(largest.amount_minor, gap))
        return answer(
            "{gap} to go in {days}, and {deal} holds {amount} of it.",
            gap=to_go,
            days=days,
            deal=named(largest.name, "deal"),
            amount=amount,
        )
    return answer("{gap} to go in {days}, spread over many deals.", gap=to_go, days=days)


def of_trend(span: Span, won: int, pace: int | None, quota: int | None) -> Answer:
    """Won against the target to date."""
    if not won and not quota:
        return answer(f"Nothing won in this {span.word} yet.")
    if quota is None or pace is None:
        return answer(f"{{won}} won so far this {span.word}; no quota is set.", won=Part(won, figure="won"))
    if not span.days_left:
        return _ended(span, won, quota)
    ahead = won - pace
    if ahead >= 0:
        return answer(
            "{won} won, {ahead} ahead of the target to date.",
            won=Part(won, figure="won"),
            ahead=Part(ahead, figure="won_to_pace"),
        )
    return answer(
        "{won} won, {behind} behind the target to date.",
        won=Part(won, figure="won"),
        behind=Part(-ahead, figure="won_to_pace"),
    )


def of_change(before: int, after: int, causes: Sequence[tuple[str, int]], since: str, measure: str) -> Answer:
    """How far a measure moved since a day, and the cause that did most. Causes with what each moved."""
    moved, day = after - before, named(since)
    top = max((c for c in causes if c[1]), key=lambda cause: abs(cause[1]), default=None)
    if top is None:
        return answer(f"{measure} has not moved since {{day}}.", day=day)
    cause, effect = named(top[0]), Part(top[1], "points")
    if not moved:
        return answer(
            f"{measure} is where it was on {{day}}; the largest cause was “{{cause}}”, {{effect}}.",
            day=day,
            cause=cause,
            effect=effect,
        )
    way = "up" if moved > 0 else "down"
    same = (top[1] > 0) == (moved > 0)
    clause = "mostly “{cause}”, {effect}" if same else "though “{cause}” moved it {effect}"
    return answer(
        f"{measure} is {way} {{moved}} since {{day}}, {clause}.",
        moved=Part(abs(moved), figure="whole"),
        day=day,
        cause=cause,
        effect=effect,
    )


def of_submitted(span: Span, submitted: int | None, quota: int | None, missing: int, people: int) -> Answer:
    """What was submitted against the quota, and how many reps have not submitted."""
    lacking = many(missing, "rep")
    if submitted is None:
        return answer(f"No forecast submitted for this {span.word} yet.")
    total = Part(submitted, figure="call")
    if missing and missing * 2 > people:
        return answer("{total} submitted so far; {missing} still to submit.", total=total, missing=lacking)
    if quota is None:
        return answer("{total} submitted; no quota is set.", total=total)
    gap = Part(abs(quota - submitted))
    words = "{total} submitted, {gap} short of quota" if submitted < quota else "{total} submitted, {gap} above quota"
    if missing:
        return answer(f"{words}; {{missing}} still to submit.", total=total, gap=gap, missing=lacking)
    return answer(f"{words}.", total=total, gap=gap)


def of_accuracy(error: float | None, periods: int, word: str, people: Sequence[tuple[str, float]]) -> Answer:
    """How far submitted forecasts lay from what was won in the last periods, and who was furthest off that way.

    `error` and those of people: (submitted − won) ÷ won. `word`: the kind of period.
    """
    span = many(periods, word)
    if not periods:
        return answer("No period is over yet, so no forecast can be checked.")
    if error is None:
        return answer("Nothing was submitted in the last {span}.", span=span)
    if abs(error) * 20 < 1:
        return answer("Submitted forecasts came close to what was won in the last {span}.", span=span)
    way = "above" if error > 0 else "below"
    parts = {"rate": Part(abs(error), "rate"), "span": span}
    sentence = f"Submitted forecasts ran {{rate}} {way} what was won in the last {{span}}"
    who, most = max(people, key=lambda one: one[1] if error > 0 else -one[1], default=("", 0.0))
    if len(people) < 2 or most * error <= 0:
        return answer(f"{sentence}.", **parts)
    return answer(f"{sentence}, most with {{who}}: {{most}}.", who=named(who), most=Part(abs(most), "rate"), **parts)
