"""Answers of the pages of conversion. Amounts in minor units, rates from 0 to 1, times in days."""

from collections.abc import Sequence
from dataclasses import dataclass

from wise_tally.core.answers.answer import FEW, Answer, Part, answer, many, named


@dataclass(frozen=True)
class Step:
    """A shown stage: its name, how many deals reached it, how many of those were lost before the next, their amount."""

    name: str
    reached: int
    lost: int
    lost_minor: int
    share: float | None


def of_conversion(created: int, undecided: int, win_rate: float | None, steps: Sequence[Step]) -> Answer:
    """The stage in which most of the closed deals were lost."""
    if not created:
        return answer("No deals in this selection.")
    if created - undecided < FEW:
        return answer(
            "Only {decided} closed yet: too few to name a weak stage.", decided=many(created - undecided, "deal")
        )
    rate = Part(win_rate or 0.0, "rate", "of_created")
    worst = max((s for s in steps if s.share), key=lambda s: s.share or 0, default=None)
    if worst is None:
        return answer("No deal was lost: {rate} are won.", rate=rate)
    parts = {
        "lost": Part(worst.lost, "number", "lost"),
        "reached": many(worst.reached, "deal"),
        "stage": named(worst.name),
        "amount": Part(worst.lost_minor, figure="lost"),
    }
    if worst.lost * 2 >= sum(s.lost for s in steps):
        return answer("{stage} loses most: {lost} of {reached} stop there, worth {amount}.", **parts)
    return answer("{stage} loses the largest share: {lost} of {reached} stop there, worth {amount}.", **parts)


@dataclass(frozen=True)
class StageTime:
    """A stage with its median and typical days, and how many open deals are in it longer than typical."""

    name: str
    median: float | None
    typical: float | None
    stalled: int


def of_time_in_stage(stages: Sequence[StageTime]) -> Answer:
    """Where deals stay longer than typical: the stalled ones first, else the slowest median."""
    if all(stage.median is None and not stage.stalled for stage in stages):
        return answer("No deal entered a stage in this selection.")
    stalled = sum(stage.stalled for stage in stages)
    most = max(stages, key=lambda stage: stage.stalled)
    if stalled:
        parts = {"stalled": many(stalled, "stalled deal"), "stage": named(most.name)}
        if most.stalled == stalled:
            return answer("{stalled}, in {stage}.", **parts)
        if most.stalled * 2 >= stalled:
            return answer("{stalled}, most of them in {stage}.", **parts)
        return answer("{stalled}, {most} of them in {stage}.", most=Part(most.stalled, "number"), **parts)
    slow = [s for s in stages if s.median is not None and s.typical is not None and s.median > s.typical]
    if not slow:
        return answer("No stage takes longer than its typical days.")
    worst = max(slow, key=lambda s: (s.median or 0) - (s.typical or 0))
    return answer(
        "{stage} takes longest beyond typical: median {median} against {typical}.",
        stage=named(worst.name),
        median=Part(worst.median or 0.0, "days"),
        typical=Part(worst.typical or 0.0, "days"),
    )


def of_losses(
    deals: int, amount: int, before: int | None, rows: Sequence[tuple[str, int]], by: str, span: str
) -> Answer:
    """What cost most, as a share of everything lost, and how the whole compares with `span`, in words."""
    total = Part(amount, figure="lost")
    if not deals:
        return answer("No deal was lost in this selection.")
    if not amount:
        return answer("{deals} lost, none with an amount.", deals=many(deals, "deal"))
    name, largest = max(rows, key=lambda row: row[1])
    share = Part(largest / amount, "rate")
    change = ""
    parts = {"total": total, "cause": named(name), "share": share, "by": named(by)}
    if before:
        rate = amount / before - 1
        if abs(rate) >= 0.1:
            change = f", {{change}} {'more' if rate > 0 else 'less'} than in {{span}}"
            parts |= {"change": Part(abs(rate), "rate"), "span": named(span)}
    if len(rows) == 1:
        return answer(f"{{total}} lost{change}, all of it to one {{by}}: {{cause}}.", **parts)
    if by != "reason":
        return answer(f"{{total}} lost{change}; {{cause}} accounts for the most, {{share}} of it.", **parts)
    return answer(f"{{total}} lost{change}; {{cause}} is the largest {{by}}, {{share}} of it.", **parts)


def of_leads(leads: int, still_open: int, qualified: int, won: int, rate: float | None) -> Answer:
    """The outcome of the leads that came in the period."""
    if not leads:
        return answer("No leads came in this period.")
    came = many(leads, "lead")
    if not qualified:
        return answer("None of {came} is qualified yet; {open} still open.", came=came, open=Part(still_open, "number"))
    if still_open * 2 > leads:
        return answer(
            "{open} of {came} still open: it is early to judge.",
            open=Part(still_open, "number", "open"),
            came=came,
        )
    parts = {"rate": Part(rate or 0.0, "rate", "qualified_rate"), "came": came}
    if not won:
        return answer("{rate} of {came} qualified, none won yet.", **parts)
    return answer("{rate} of {came} qualified, {won} won.", won=Part(won, "number", "won"), **parts)


def of_probability_check(stages: Sequence[tuple[str, bool | None, float, float | None]]) -> Answer:
    """Whether set probabilities hold. Stages as name, whether off (None for too few deals), set and actual win rate."""
    judged = [stage for stage in stages if stage[1] is not None]
    if not judged:
        return answer("Too few closed deals to check any probability yet.")
    off = [stage for stage in judged if stage[1]]
    checked = many(len(judged), "stage")
    if not off and len(judged) == 1:
        return answer("{stage} is in line with the actual win rate.", stage=named(judged[0][0]))
    if not off:
        return answer("All {checked} with enough deals are in line with the actual win rate.", checked=checked)
    name, _, set_rate, actual = max(off, key=lambda stage: abs((stage[3] or 0) - stage[2]))
    parts = {"stage": named(name), "set": Part(set_rate, "rate"), "seen": Part(actual or 0.0, "rate")}
    if len(off) == 1:
        return answer("One stage is off: {stage} is set at {set}, and {seen} were won.", **parts)
    return answer(
        "{off} of {checked} are off, most of all {stage}: set at {set}, and {seen} were won.",
        off=Part(len(off), "number"),
        checked=checked,
        **parts,
    )


def of_monthly_trend(month: str, new: int, usual_new: float | None, unusual: Sequence[str]) -> Answer:
    """The last month that is over against the mean of the year before it, and what was unusual in it."""
    if not new and not usual_new:
        return answer("No new deals in two years of this selection.")
    parts = {"new": many(new, "new deal"), "month": named(month)}
    if unusual:
        return answer(
            "Unusual in {month}: {what}; {new}.",
            what=named(" and ".join(unusual)),
            **parts,
        )
    if not usual_new:
        return answer("{new} in {month}.", **parts)
    mean = Part(round(usual_new), "number")
    rate = new / usual_new - 1
    if abs(rate) < 0.1:
        return answer("{new} in {month}, as in an average month of the year before.", **parts)
    way = "above" if rate > 0 else "below"
    return answer(
        f"{{new}} in {{month}}, {way} the average of {{mean}} a month in the year before.", mean=mean, **parts
    )
