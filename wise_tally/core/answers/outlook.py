"""Sentences of the outlook: what is likely, whether it leads and why, and why a deal has its chance."""

from wise_tally.core.answers.answer import Answer, Part, Span, answer, many, named
from wise_tally.core.outlook.fit import ENOUGH_TO_SHOW
from wise_tally.core.outlook.reference_class import ReferenceClass
from wise_tally.core.outlook.trust import CORRECTED, FEW, Trust

# What a factor is called where its shift is mentioned.
FACTOR_WORDS = {
    "close": "its expected close",
    "slips": "how often its date moved",
    "type": "its type",
    "source": "its source",
    "size": "its size",
    "owner": "its owner",
}
PAST_WORDS = {"weighted": "weighted", "run_rate": "the run rate", "outlook": "the outlook", "submitted": "submitted"}
METHOD_WORDS = {"weighted": "weighted", "run_rate": "the run rate"}
# A shift of less than a point is not mentioned.
LEAST_SHIFT = 0.01


def of_outlook(span: Span, likely: int, low: int, high: int, quota: int | None, chance: float | None) -> Answer:
    """Where the period ends on average, as everywhere "likely" says, against the quota; money in minor units, chance from 0 to 1."""
    ends = {"likely": Part(likely, figure="mean"), "low": Part(low), "high": Part(high)}
    if not span.days_left:
        return answer(f"The {span.word} ended with {{won}} won.", won=Part(likely, figure="won"))
    if quota is None or chance is None:
        return answer("Likely {likely}, eight times in ten between {low} and {high}; no quota is set.", **ends)
    gap = Part(abs(quota - likely))
    way = "short of quota" if likely < quota else "above quota"
    return answer(
        f"Likely {{likely}}, {{gap}} {way}; the chance of reaching it is {{chance}}.",
        likely=ends["likely"],
        gap=gap,
        chance=Part(chance, "rate", "chance"),
    )


def why_it_leads(trust: Trust) -> Answer:
    """What leads, outlook or weighted, and the figures it is decided by."""
    decided = many(trust.decided, "closed deal")
    if trust.over:
        return answer("The period is over: nothing is left to be expected.")
    if not trust.shown:
        return answer(
            f"Weighted leads: {{decided}} in the last two years, and an outlook needs {ENOUGH_TO_SHOW}.",
            decided=decided,
        )
    lately = trust.last_days
    if lately is not None and not lately.usual:
        return answer(
            "Weighted leads: in the last {days} {won} were won where {expected} were expected.",
            days=many(lately.days, "day"),
            won=Part(lately.won, "number"),
            expected=Part(round(lately.expected * 10) * 10, "times"),
        )
    if trust.beaten_by:
        return answer(
            "Weighted leads: over past periods {method} missed by less.", method=named(METHOD_WORDS[trust.beaten_by])
        )
    if trust.leads == FEW:
        return answer("It is based on {decided} only: treat it as a hint; weighted leads.", decided=decided)
    more = ", adjusted by the results of similar deals" if trust.leads == CORRECTED else ""
    return answer(f"The outlook leads: it is based on {{decided}} in the last two years{more}.", decided=decided)


def back_test_answer(errors: dict[str, float], periods: int, word: str) -> Answer:
    """By how much each method missed what was won over past periods, as shares of it, the closest first."""
    if not errors or not periods:
        return answer(f"Too few {word}s are over to test any forecast.")
    methods = sorted(errors, key=lambda method: errors[method])
    parts = {method: Part(errors[method], "rate") for method in methods}
    first, *others = methods
    words = [f"{PAST_WORDS[method]} by {{{method}}}" for method in others]
    rest = f", {', '.join(words)}" if words else ""
    sentence = f"Over the last {{span}} {PAST_WORDS[first]} came closest: it missed what was won by {{{first}}}{rest}."
    return answer(sentence, span=many(periods, word), **parts)


def why_chance(like: ReferenceClass, stage: str, by_age: float, chance: float, shifts: dict[str, float]) -> Answer:
    """The past deals behind a chance, counted, and the correction that moved it most."""
    if not like.enough:
        return answer("Too few past deals were in {stage} to estimate a chance.", stage=named(stage))
    days = many(like.days, "day")
    clause = f"for {{days}}{' or more' if like.or_more else ''}" if like.days or like.or_more else "for less than a day"
    parts = {
        "deals": many(len(like.deals), "deal", "like"),
        "stage": named(stage),
        "days": days,
        "won": Part(len(like.won), "number", "like_won"),
        "within": many(like.horizon, "day"),
        **({"before": many(like.before, "day")} if like.before else {}),
    }
    verb = "was" if len(like.won) == 1 else "were"
    sentence = f"Of {{deals}} that had been in {{stage}} {clause}, {{won}} {verb} won within {{within}}"
    sentence += ", after the first {before}" if like.before else ""
    factor = max(shifts, key=lambda one: abs(shifts[one]), default="")
    if not factor or abs(chance - by_age) < LEAST_SHIFT or shifts[factor] * (chance - by_age) <= 0:
        return answer(f"{sentence}.", **parts)
    way = "raises" if chance > by_age else "lowers"
    moved = {"factor": named(FACTOR_WORDS[factor]), "chance": Part(chance, "rate")}
    return answer(f"{sentence}; {{factor}} {way} it to {{chance}}.", **parts, **moved)
