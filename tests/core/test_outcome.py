"""The distribution of outcomes: against every combination written out, on grids of each kind, small and joined by halves."""

from fractions import Fraction
from itertools import product
from math import gcd
from random import Random

import numpy as np
import pytest
from scipy import stats

from tests.support.small_books import FIRST, IS_WON, SECOND, book_of, day, reference
from wise_tally.core import outcome as module
from wise_tally.core.forecast import forecast_lines
from wise_tally.core.lines import Filter
from wise_tally.core.outcome import (
    MOST_CELLS,
    deciding,
    grid_step,
    likely_by_day,
    outcome,
    outcome_either_way,
    outcome_of_lines,
    stakes,
)

YEAR = reference().fiscal.parse("FY2026")


def combinations(won, amounts, chances):
    """Every total with its probability, in fractions."""
    found = {}
    for fates in product((False, True), repeat=len(amounts)):
        chance, total = Fraction(1), won
        for is_won, amount, points in zip(fates, amounts, chances, strict=True):
            chance *= Fraction(points, 10_000) if is_won else 1 - Fraction(points, 10_000)
            total += amount if is_won else 0
        found[total] = found.get(total, 0) + chance
    return found


def plain_chance(found, quota):
    """The share of all that reaches a quota."""
    return float(sum(chance for total, chance in found.items() if total >= quota))


@pytest.mark.parametrize("seed", range(12))
def test_a_distribution_is_that_of_every_combination(seed):
    random = Random(seed)
    amounts = [random.choice((0, 500, 1_000, 2_500, 7_500)) for _ in range(random.randint(1, 9))]
    chances = [random.randrange(0, 10_001, 250) for _ in amounts]
    found, plain = outcome(300, np.array(amounts), np.array(chances)), combinations(300, amounts, chances)
    assert found.step_minor == (gcd(*amounts) or 1)
    assert found.probability.sum() == pytest.approx(1)
    for index, chance in enumerate(found.probability.tolist()):
        assert chance == pytest.approx(float(plain.get(300 + index * found.step_minor, 0)), abs=1e-12)
    for quota in (0, 300, 301, 800, 3_000, sum(amounts) + 300, sum(amounts) + 301):
        assert found.chance_of(quota) == pytest.approx(plain_chance(plain, quota), abs=1e-12), quota
    assert found.chance_of(None) is None
    below = [(total, float(sum(c for t, c in plain.items() if t <= total))) for total in sorted(plain)]
    for q in (0.1, 0.5, 0.9):
        assert found.quantile(q) == next(total for total, share in below if share >= q - 1e-12)
    assert found.mean_minor == round(sum(total * chance for total, chance in plain.items()))
    for_each = list(range(len(amounts)))[:3]
    either = outcome_either_way(300, np.array(amounts), np.array(chances), for_each, 3_000)
    assert either.whole.probability == pytest.approx(found.probability, abs=1e-12)
    assert (either.whole.won_minor, either.whole.step_minor, either.whole.mean_minor) == (
        300,
        found.step_minor,
        found.mean_minor,
    )
    for index, (with_it, without) in zip(for_each, either.chances, strict=True):
        for sure, told in ((10_000, with_it), (0, without)):
            fixed = [sure if place == index else chance for place, chance in enumerate(chances)]
            assert told == pytest.approx(plain_chance(combinations(300, amounts, fixed), 3_000), abs=1e-12)


@pytest.mark.parametrize(
    ("amounts", "step"),
    [
        ([], 1),
        ([0, -5], 1),
        ([1], 1),
        ([1, 3], 1),
        # Just as many cells as are allowed, one more, and what follows on either side of a round step.
        ([MOST_CELLS - 2, 1], 1),
        ([MOST_CELLS - 1, 1], 2),
        ([2 * MOST_CELLS - 3, 2], 2),
        ([2 * MOST_CELLS - 1, 2], 5),
        ([5 * MOST_CELLS - 3, 2], 5),
        ([5 * MOST_CELLS - 1, 2], 10),
        ([10 * MOST_CELLS - 11, 10], 10),
        ([3 * (MOST_CELLS - 1)], 3 * (MOST_CELLS - 1)),
    ],
)
def test_a_grid_is_the_finest_that_fits(amounts, step):
    assert grid_step(np.array(amounts, dtype=np.int64)) == step


def test_halves_joined_give_what_deal_by_deal_gives(monkeypatch):
    """Above a size the halves are joined by FFT; both ways agree, and nothing is negative."""
    random = Random(4)
    pairs = sorted((random.randrange(1, 400), random.randrange(1, 100) / 100) for _ in range(60))
    fast = module._distribution(pairs)
    assert sum(size for size, _ in pairs) > module.DIRECT_CELLS
    monkeypatch.setattr(module, "DIRECT_CELLS", 10**9)
    direct = module._distribution(pairs)
    assert len(fast) == len(direct) == sum(size for size, _ in pairs) + 1
    assert fast == pytest.approx(direct, abs=1e-12)
    assert fast.min() >= 0
    assert outcome(0, np.array([10]), np.array([10_000])).chance_of(10) == 1.0


def scene():
    """Won 1 000 of the year; open 4 000 (half), 2 000 (fifth) and one that is due another year."""
    ground = reference(people=("ann", "bob"), probability_bp=(5_000, 2_000))
    return book_of(
        [
            [
                (day("2026-01-05"), FIRST, 1_000, day("2026-02-01")),
                (day("2026-02-02"), IS_WON, 1_000, day("2026-02-01")),
            ],
            [(day("2026-01-05"), SECOND, 2_000, day("2026-06-01")), 1],
            [(day("2026-01-05"), FIRST, 4_000, day("2026-06-01"))],
            [(day("2026-01-05"), FIRST, 9_000, day("2027-06-01"))],
        ],
        ground,
    )


def test_the_outcome_of_a_scope_counts_what_is_won_and_what_may_be():
    """Worked by hand: of 1 000 won, 4 000 at a half and 2 000 at a fifth a quota of 3 000 is reached in six of ten."""
    book = scene()
    snapshot = book.as_of(day("2026-03-01"))
    lines = forecast_lines(book, snapshot, YEAR, Filter(), "company")
    won, rows, amount = stakes(lines)
    assert (won, snapshot.deal[rows].tolist(), amount.tolist()) == (1_000, [1, 2], [2_000, 4_000])
    found = outcome_of_lines(lines)
    assert (found.won_minor, found.mean_minor, found.chance_of(3_000)) == (
        1_000,
        1_000 + 400 + 2_000,
        pytest.approx(0.6),
    )
    people = forecast_lines(book, snapshot, YEAR, Filter(), "person")
    of_bob = people.node == 1
    won, rows, amount = stakes(people, of_bob)
    assert (won, snapshot.deal[rows].tolist(), amount.tolist()) == (0, [1], [2_000])
    assert outcome_of_lines(people, of_bob).chance_of(2_000) == pytest.approx(0.2)
    assert outcome_of_lines(people, people.node == 0).chance_of(5_000) == pytest.approx(0.5)


def test_the_deals_that_decide_are_the_largest_with_either_end():
    book = scene()
    found = deciding(book, book.as_of(day("2026-03-01")), YEAR, Filter(), "company", 3_000, 1)
    assert (book.as_of(day("2026-03-01")).deal[list(found.rows)].tolist(), found.amount_minor) == ([2], (4_000,))
    assert found.either_way.chances == ((pytest.approx(1.0), pytest.approx(0.2)),)
    both = deciding(book, book.as_of(day("2026-03-01")), YEAR, Filter(), "company", None, 5)
    assert (both.amount_minor, both.either_way.chances) == ((4_000, 2_000), ((None, None), (None, None)))


def test_the_likely_range_of_a_day_counts_the_deals_due_by_then():
    """Before any is due all that is won; on the last day of the period the outcome of the whole."""
    book = scene()
    lines = forecast_lines(book, book.as_of(day("2026-03-01")), YEAR, Filter(), "company")
    close = lines.lines.snapshot.expected_close[lines.lines.rows[lines.counts("open")]]
    first, last = int(close.min()), int(close.max())
    found = likely_by_day(lines, [first - 1, first, last, YEAR.ends_on.toordinal()])
    whole = outcome_of_lines(lines)
    assert found[0] == (1_000, 1_000, 1_000)
    assert found[-1] == found[-2] == tuple(whole.quantile(q) for q in (0.1, 0.5, 0.9))
    due = ~lines.counts("open") | (lines.lines.snapshot.expected_close[lines.lines.rows] == first)
    assert found[1] == tuple(outcome_of_lines(lines, due).quantile(q) for q in (0.1, 0.5, 0.9))


def test_outcome_of_equal_amounts_is_poisson_binomial():
    """Ruling 17, against scipy's Poisson-binomial, also where large halves are joined by FFT."""
    probability = np.linspace(100, 9_900, 90).astype(int)
    found = outcome(0, np.full(90, 12_345), probability)
    assert found.step_minor == 12_345
    expected = stats.poisson_binom(probability / 10_000).pmf(np.arange(91))
    assert found.probability == pytest.approx(expected, abs=1e-12)
    wide = outcome(0, np.arange(1, 91) * 1_000 + 1, probability)
    assert wide.probability.sum() == pytest.approx(1, abs=1e-9)


def test_chances_with_and_without_a_deal_equal_certain_outcomes():
    """Winning a deal for sure, or losing it, gives the same chance as the distribution with its probability at 1 or 0."""
    random = np.random.default_rng(3)
    amount, probability = random.integers(1, 300, 60) * 100, random.integers(0, 10_001, 60)
    places, quota = [5, 17, 40], 400_000
    both = outcome_either_way(10_000, amount, probability, places, quota)
    assert both.whole.probability == pytest.approx(outcome(10_000, amount, probability).probability, abs=1e-12)
    found = both.chances
    for place, pair in zip(places, found, strict=True):
        for certain, chance in zip((10_000, 0), pair, strict=True):
            changed = probability.copy()
            changed[place] = certain
            assert chance == pytest.approx(outcome(10_000, amount, changed).chance_of(quota), abs=1e-12)
        assert pair[0] >= pair[1]


def test_amounts_in_the_middle_of_two_cells_go_to_the_even_one():
    """On a grid of 50: 25 is half a cell (none), 75 one and a half (two), 125 two and a half (two)."""
    found = outcome(0, np.array([25, 75, 125, 1_999_801]), np.array([10_000, 10_000, 10_000, 0]))
    assert found.step_minor == 50
    assert int(np.argmax(found.probability)) == 0 + 2 + 2
    assert found.mean_minor == 225, "the mean is that of the amounts, not of the cells"


def test_a_quantile_that_is_met_exactly_is_the_smaller_total():
    found = outcome(0, np.array([100]), np.array([5_000]))
    assert (found.quantile(0.5), found.quantile(0.51)) == (0, 100)
    assert found.chance_of(100) == found.chance_of(1) == 0.5


def test_the_grid_step_follows_the_ruling():
    assert grid_step(np.array([])) == 1
    assert grid_step(np.array([0, 700, 300])) == 100
    assert grid_step(np.array([10**9 + 1, 10**9])) == 50_000
    assert outcome(0, np.array([10**9 + 1, 10**9]), np.array([10_000, 5_000])).quantile(0.9) == 2 * 10**9
