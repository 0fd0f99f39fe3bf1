"""Answers of attainment, cash, the list of deals and the pages of a team. Amounts in minor units."""

from collections.abc import Sequence

from wise_tally.core.answers.answer import Answer, Kind, Part, Span, answer, many, named
from wise_tally.core.commission import CommissionSum


def of_attainment(
    span: Span, won: int, pace: int | None, quota: int | None, behind: Sequence[tuple[str, int]], in_money: bool = True
) -> Answer:
    """Won against the target to date, and the row furthest behind. `behind`: rows with how far each is behind.

    Without `in_money` the figures are hundredths of numbers of activities or pieces.
    """
    kind: Kind = "money" if in_money else "times"
    done = Part(won, kind, "won")
    verb = "won" if in_money else "done"
    if not quota or pace is None:
        sentence = f"{{won}} {verb} so far; no quota is set." if won else f"Nothing {verb} yet, and no quota is set."
        return answer(sentence, won=done) if won else answer(sentence)
    if not span.days_left:
        rate = Part(won / quota, "rate", "attainment")
        words = "above" if won >= quota else "short"
        gap = Part(abs(quota - won), kind, "gap")
        of = "quota" if words == "above" else "of quota"
        return answer(f"The {span.word} ended at {{rate}}, {{gap}} {words} {of}.", rate=rate, gap=gap)
    if not pace:
        return answer(f"{{won}} {verb}; nothing is due by today yet.", won=done)
    rate = Part(won / pace, "rate", "to_date")
    last = max(behind, key=lambda row: row[1], default=None)
    if last is not None and last[1] > 0:
        who = {"who": named(last[0]), "short": Part(last[1], kind)}
        lead = f"{{won}} {verb}, {{rate}} of the target to date"
        if won >= pace:
            return answer(f"{lead}, though {{who}} is {{short}} behind.", won=done, rate=rate, **who)
        return answer(f"{lead}; {{who}} is furthest behind, by {{short}}.", won=done, rate=rate, **who)
    return answer(f"{{won}} {verb}, {{rate}} of the target to date; nobody is behind.", won=done, rate=rate)


def of_comparison(now: int, then: int | None, words: str) -> Answer:
    """Won in this span against the same days of the other. `words` names the other span."""
    won, named_then = Part(now, figure="won"), named(words)
    if then is None:
        return answer("{won} won; there is no earlier period to compare with.", won=won)
    if not now and not then:
        return answer("Nothing won in either period.")
    if not then:
        return answer("{won} won, after nothing in {then}.", won=won, then=named_then)
    change = now - then
    if abs(change) * 20 < then:
        return answer("{won} won, about as much as in {then}.", won=won, then=named_then)
    rate, way = Part(abs(change) / then, "rate"), "more" if change > 0 else "less"
    return answer(f"{{won}} won, {{rate}} {way} than in {{then}}.", won=won, rate=rate, then=named_then)


def of_cash(months: Sequence[tuple[str, int, int]]) -> Answer:
    """What is due in the period. Months as name, due of won deals, due of open ones weighted."""
    won, expected = sum(m[1] for m in months), sum(m[2] for m in months)
    if not won and not expected:
        return answer("No payment is due in this period.")
    most = max(months, key=lambda m: m[1] + m[2])
    parts = {"won": Part(won, figure="won"), "month": named(most[0]), "most": Part(most[1] + most[2])}
    if len(months) == 1:
        return answer(
            "{won} due from deals won, and {open} weighted from open ones.", won=parts["won"], open=Part(expected)
        )
    if not expected:
        return answer("{won} due from deals won, most of it in {month}: {most}.", **parts)
    if not won:
        return answer("Nothing due from deals won; {open} weighted from open ones.", open=Part(expected))
    return answer(
        "{won} due from deals won and {open} weighted from open ones, most in {month}: {most}.",
        open=Part(expected),
        **parts,
    )


def of_commissions(whole: CommissionSum, people: Sequence[tuple[str, int]], noun: str) -> Answer:
    """What is earned in all, after what was clawed back, and by whom most. `people` (or partners, as the noun says) with
    what each earns.
    """
    if not people:
        return answer("No commissions in this period.")
    deals = many(len(whole.deals), "deal")
    if whole.without_rate == whole.lines:
        return answer("{deals}, none with a commission rate.", deals=deals)
    name, most = max(people, key=lambda row: row[1])
    parts = {"commission": Part(whole.commission_minor, figure="commission"), "deals": deals, "who": named(name)}
    base = "{deals}"
    if whole.taken_back_minor:
        parts["back"] = Part(-whole.taken_back_minor, figure="taken_back")
        base = "{deals}, after {back} clawed back"
    if len(people) == 1:
        return answer(f"{{who}} earns {{commission}} on {base}.", **parts)
    return answer(
        f"{{people}} earn {{commission}} on {base}; {{who}} earns most, {{most}}.",
        people=many(len(people), noun),
        most=Part(most),
        **parts,
    )


def of_deals(deals: int, amount: int, weighted: int, largest: tuple[str, int] | None) -> Answer:
    """A list of deals: how many, for how much, and whether one of them outweighs the rest."""
    if not deals:
        return answer("No deals match these filters.")
    number, total = many(deals, "deal", "deals"), Part(amount, figure="amount")
    if not amount:
        return answer("{number}, none with an amount.", number=number)
    if deals > 1 and largest and largest[1] * 3 >= amount:
        name, one = named(largest[0]), Part(largest[1])
        return answer(
            "{number} for {total}; {name} alone is {one} of it.", number=number, total=total, name=name, one=one
        )
    if not weighted:
        return answer("{number} for {total}.", number=number, total=total)
    part = Part(weighted, figure="weighted")
    return answer("{number} for {total}, {part} of it weighted by probability.", number=number, total=total, part=part)


def of_due_today(due: int, reasons: Sequence[tuple[str, int]]) -> Answer:
    """What asks for attention, the commonest reason first. Reasons with their number of deals."""
    if not due:
        return answer("Nothing is due today.")
    deals = many(due, "deal")
    present = sorted((r for r in reasons if r[1]), key=lambda r: -r[1])
    if len(present) == 1:
        return answer("{deals} to attend to: {first}.", deals=deals, first=named(present[0][0]))
    parts = {"deals": deals, "first": named(present[0][0]), "one": Part(present[0][1], "number")}
    second, two = named(present[1][0]), Part(present[1][1], "number")
    return answer("{deals} to attend to: {first} ({one}), {second} ({two}).", second=second, two=two, **parts)


def of_week(set_out: int, won: int, done: Sequence[tuple[str, bool]], over: bool) -> Answer:
    """What was planned to close and what was won. People with whether they met what they set out."""
    if not set_out:
        return answer("{won} won; nobody planned to close a deal this week.", won=Part(won, figure="won"))
    parts = {"won": Part(won, figure="won"), "planned": Part(set_out, figure="set_out")}
    if won >= set_out:
        return answer("{won} won of {planned} planned: the week’s plan is met.", **parts)
    met = sum(yes for _, yes in done)
    if not over:
        return answer("{won} won of {planned} planned for this week so far.", **parts)
    return answer("{won} won of {planned} planned; {met} of {people} met their plan.", met=Part(met, "number"),
                  people=many(len(done), "rep"), **parts)  # fmt: skip


def of_deals_by_rep(deals: int, amount: int, people: Sequence[tuple[str, int]]) -> Answer:
    """Who holds most of the pipeline. All deals, each once, with their amount; people with the amounts credited to them."""
    if not people:
        return answer("No deals in this selection.")
    number = many(deals, "deal")
    if not amount:
        return answer("{deals}, none with an amount.", deals=number)
    name, most = max(people, key=lambda row: row[1])
    parts = {"deals": number, "total": Part(amount), "who": named(name), "share": Part(most / amount, "rate")}
    if len(people) == 1:
        return answer("{deals} for {total}, all with {who}.", deals=number, total=parts["total"], who=parts["who"])
    if most * 4 >= amount:
        return answer("{deals} for {total}; {who} holds {share} of it.", **parts)
    return answer("{deals} for {total}, well spread: {who} holds most, {share}.", **parts)


def of_contact_gaps(whole: Sequence[int], people: Sequence[tuple[str, Sequence[int]]]) -> Answer:
    """How many deals miss a contact, and who has most: all deals, each once, and people's, by intervals missed, none first."""
    missed = sum(whole[1:])
    if not missed:
        return answer("Every deal was contacted within its interval.")
    late = [(name, sum(deals[1:])) for name, deals in people]
    name, most = max(late, key=lambda row: row[1])
    number, who = many(missed, "deal"), named(name)
    if len([one for _, one in late if one]) == 1:
        return answer("{missed} not contacted within the interval, all with {who}.", missed=number, who=who)
    return answer(
        "{missed} not contacted within the interval; {who} has most, {most}.",
        missed=number,
        who=who,
        most=Part(most, "number"),
    )


def of_one_to_one(
    name: str, span: Span, won: int, quota: int | None, due: int, largest: tuple[str, int] | None
) -> Answer:
    """Where one rep stands. `due`: open deals due in the period, all in full; the largest of them with its amount."""
    who, done = named(name), Part(won, figure="won")
    if not quota:
        sentence = "{who} has won {won}; no quota is set." if won else "{who} has won nothing yet, and no quota is set."
        return answer(sentence, who=who, won=done) if won else answer(sentence, who=who)
    gap = Part(abs(quota - won), figure="gap")
    parts = {"who": who, "gap": gap}
    if won >= quota:
        return answer("{who} has reached quota, {gap} above it.", **parts)
    if not span.days_left:
        return answer(f"{{who}} ended the {span.word} {{gap}} short of quota.", **parts)
    if not due:
        return answer(f"{{who}} is {{gap}} short of quota, and nothing is due to close this {span.word}.", **parts)
    if largest and largest[1] >= quota - won:
        return answer(
            "{who} is {gap} short of quota; {deal} alone would close the gap.", deal=named(largest[0]), **parts
        )
    if won + due < quota:
        return answer(
            f"{{who}} is {{gap}} short of quota, and only {{due}} is due to close this {span.word}.",
            due=Part(due),
            **parts,
        )
    return answer(
        f"{{who}} is {{gap}} short of quota, with {{due}} due to close this {span.word}.", due=Part(due), **parts
    )
