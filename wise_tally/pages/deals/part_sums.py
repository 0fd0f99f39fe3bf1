"""What the typed rows of a part add up to, shown while they are typed: the sum of lines, of payments, of shares."""

from dataclasses import dataclass
from typing import Any

from wise_tally.core.cash import Plan, whole_minor
from wise_tally.core.money import line_amount
from wise_tally.domain.formats import bare, money, plural
from wise_tally.pages.deals.part_forms import RowForm


@dataclass(frozen=True)
class PartSums:
    """Sentences about all rows, and each row's amount as people read it (empty where it has none)."""

    words: tuple[str, ...] = ()
    amounts: tuple[str, ...] = ()


def sums_of(form: RowForm, amount_minor: int) -> PartSums:
    """The sums of the rows that can be read, beside the deal's amount."""
    if form.name == "lines":
        return _of_lines(form, amount_minor)
    if form.name == "payments":
        return PartSums(_of_payments(form.read, amount_minor))
    return PartSums(_of_shares(form.read)) if form.name == "credits" else PartSums()


def _of_lines(form: RowForm, typed: int) -> PartSums:
    amounts = {number: _line(row) for number, row in form.read.items()}
    known = [amount for amount in amounts.values() if amount is not None]
    words = []
    if known:
        words.append(f"{plural(len(known), 'line')} come to {money(sum(known))}.")
        if not form.from_lines:
            words.append(_compared(sum(known), typed, "the deal’s amount"))
    words += [
        f"Row {number + 1} has quantity 0. Clear the row if the product is not part of the deal."
        for number, row in form.read.items()
        if row["quantity_10000ths"] == 0
    ]
    shown = tuple("" if amounts.get(number) is None else money(amounts[number]) for number in range(len(form.rows)))
    return PartSums(tuple(filter(None, words)), shown)


def _line(row: dict[str, Any]) -> int | None:
    if row["quantity_10000ths"] is None or row["unit_price_minor"] is None:
        return None
    return line_amount(row["quantity_10000ths"], row["unit_price_minor"], row["discount_bp"] or 0)


def _compared(sum_of_parts: int, typed: int, what: str) -> str:
    if sum_of_parts == typed:
        return f"That is {what}."
    return f"{what.capitalize()} is {money(typed)}: {money(abs(sum_of_parts - typed))} {'less' if typed < sum_of_parts else 'more'}."


def _of_payments(read: dict[int, dict[str, Any]], typed: int) -> tuple[str, ...]:
    plans = [
        Plan(row["due_on"], row["amount_minor"], row["every"], row["times"])
        for row in read.values()
        if row["amount_minor"] is not None
    ]
    sums = [whole_minor(plan) for plan in plans]
    if not plans:
        return ()
    if None in sums:
        return ("A payment goes on without end, so the payments have no sum.",)
    total = sum(amount for amount in sums if amount is not None)
    return (f"{plural(len(plans), 'payment')} of {money(total)} in all.", _compared(total, typed, "the deal’s amount"))


def _of_shares(read: dict[int, dict[str, Any]]) -> tuple[str, ...]:
    total = sum(row["share_bp"] or 0 for row in read.values())
    if not read:
        return ()
    rest = 10_000 - total
    if not rest:
        return ("The shares add up to 100 %.",)
    return (f"The shares add up to {bare(total)} %: {bare(abs(rest))} % {'too much' if rest < 0 else 'are missing'}.",)
