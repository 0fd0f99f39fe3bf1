"""How money, days, rates and numbers are written everywhere: pages, files, messages and the audit."""

import re
from contextvars import ContextVar
from datetime import date, datetime
from decimal import ROUND_HALF_EVEN, Decimal
from functools import lru_cache
from math import isnan
from zoneinfo import ZoneInfo

from babel.numbers import get_currency_precision, get_currency_symbol

from wise_tally.core.money import divide_half_even
from wise_tally.core.number_reader import NumberStyle

SPACE = "\u00a0"
NONE_SIGN = "–"
MINUS = "\u2212"


@lru_cache(maxsize=8)
def _decimals(currency: str) -> int:
    return get_currency_precision(currency)


_current: ContextVar[str] = ContextVar("currency", default="EUR")


_time_zone: ContextVar[str] = ContextVar("time_zone", default="UTC")


_decimal_sign: ContextVar[str] = ContextVar("decimal_sign", default=".")


_day_order: ContextVar[str] = ContextVar("day_order", default="dmy")


def use_workspace(currency_code: str, time_zone: str, decimal: str = ".", days: str = "dmy") -> None:
    """The currency, time zone, sign before decimals and order of days in numbers for the rest of this request."""
    _current.set(currency_code)
    _time_zone.set(time_zone)
    _decimal_sign.set(decimal)
    _day_order.set(days)


def decimal_sign() -> str:
    """The workspace's sign before decimals, “.” or “,”."""
    return _decimal_sign.get()


def day_order() -> str:
    """The order in which days in numbers are read: “dmy” or “mdy”."""
    return _day_order.get()


def number_style() -> NumberStyle:
    """How a text is read that could mean two numbers."""
    return NumberStyle(decimal_sign())


def _written(text: str) -> str:
    """A number written with a point, in the workspace's style."""
    return text.replace(".", _decimal_sign.get())


def currency() -> str:
    """The workspace's currency."""
    return _current.get()


def currency_decimals() -> int:
    """Decimals of the workspace's currency."""
    return _decimals(currency())


def _grouped(digits: str) -> str:
    return f"{int(digits):,}".replace(",", SPACE)


def money(minor: int | None) -> str:
    """Exact money with the currency's decimals: 1 250.00."""
    if minor is None:
        return NONE_SIGN
    decimals = _decimals(currency())
    sign, digits = (MINUS if minor < 0 else ""), str(abs(minor)).rjust(decimals + 1, "0")
    whole, fraction = (digits[:-decimals], digits[-decimals:]) if decimals else (digits, "")
    return sign + _grouped(whole) + (_written(f".{fraction}") if fraction else "")


def whole(minor: int | None) -> str:
    """Money in whole units, for grids: 1 250; the working shows it exactly."""
    if minor is None:
        return NONE_SIGN
    units = divide_half_even(minor, 10 ** _decimals(currency()))
    return (MINUS if units < 0 else "") + _grouped(str(abs(units)))


def short(minor: int | None) -> str:
    """Money shortened for tiles: 1.24 m, 312 k."""
    if minor is None:
        return NONE_SIGN
    units = Decimal(abs(minor)).scaleb(-_decimals(currency()))
    sign = MINUS if minor < 0 else ""
    if units <= Decimal("0.5"):
        return "0"
    for size, letter, step in (
        (Decimal(999_500), "m", "0.01"),
        (Decimal(9_950), "k", "1"),
        (Decimal(1_000), "k", "0.1"),
    ):
        if units >= size:
            scaled = units / (1_000_000 if letter == "m" else 1_000)
            return _written(f"{sign}{scaled.quantize(Decimal(step), ROUND_HALF_EVEN)}{SPACE}{letter}")
    return f"{sign}{units.quantize(Decimal(1), ROUND_HALF_EVEN)}"


def hundredths(value: int | None) -> str:
    """A number kept in hundredths, such as a weighted number of deals: 12.45."""
    if value is None:
        return NONE_SIGN
    whole_part, rest = divmod(abs(value), 100)
    sign = MINUS if value < 0 else ""
    return sign + _grouped(str(whole_part)) + (_written(f".{rest:02}".rstrip("0")) if rest else "")


# How an exact value of a measure is written: money, but for numbers of deals.
UNITS = {"amount": money, "margin": money, "first_year": money, "deals": hundredths, "quantity": hundredths}


def percent(rate: float | None, decimals: int = 1) -> str:
    """A rate of 0 to 1 as a percentage: 43.5 %."""
    return NONE_SIGN if rate is None else _written(f"{rate * 100:z.{decimals}f}{SPACE}%".replace("-", MINUS))


def score(value: float | None) -> str:
    """A Brier score with three decimals: 0.182."""
    return NONE_SIGN if value is None else _written(f"{value:.3f}")


def points(basis_points: int | None) -> str:
    """Basis points as a percentage: 12.5 %."""
    return NONE_SIGN if basis_points is None else _written(f"{basis_points / 100:g}{SPACE}%")


def bare(basis_points: int | None) -> str:
    """Hundredths as a plain number for inputs: 12.5."""
    return "" if basis_points is None else _written(f"{Decimal(basis_points).scaleb(-2).normalize():f}")


def plain_number(value: float) -> str:
    """A number of up to six digits for inputs: 2.5."""
    return _written(f"{value:g}")


def times(value: float | None) -> str:
    """A ratio: 1.4×."""
    if value is None:
        return NONE_SIGN
    return _written(f"{value:.1f}×") if value < 100 else "over 100×"


def days(value: float | None) -> str:
    """Days with one decimal: 8.2 d."""
    return NONE_SIGN if value is None else _written(f"{value:.1f}{SPACE}d")


def age(value: float | None) -> str:
    """An age in whole days that have passed: 8 d, and 0 d on the first."""
    return NONE_SIGN if value is None or isnan(value) else f"{_grouped(str(int(value)))}{SPACE}d"


def count(value: int | None) -> str:
    """A number of things: 1 862."""
    return NONE_SIGN if value is None else _grouped(str(value))


def signed_short(minor: int | None) -> str:
    """A change of money with its sign: +0.14 m."""
    return signed(short(minor), minor)


def signed_percent(rate: float | None) -> str:
    """A change of 1 as a whole percentage with its sign: +8 %."""
    return signed(percent(rate, 0), rate)


def signed(text: str, value: float | None) -> str:
    """A change as written, with a plus where it rose; none where it shows as zero."""
    return f"+{text}" if value is not None and value > 0 and any(sign in "123456789" for sign in text) else text


def day(value: date | int | None) -> str:
    """A date, or that of a moment in the workspace: 23 Nov 2026; 0 and None are none."""
    return f"{_date(value):%-d %b %Y}" if value else NONE_SIGN


def iso_day(value: date | int | None) -> str:
    """A date for inputs: 2026-11-23."""
    return _date(value).isoformat() if value else ""


def _date(value: date | int) -> date:
    if isinstance(value, int):
        return date.fromordinal(value)
    return value.astimezone(ZoneInfo(_time_zone.get())).date() if isinstance(value, datetime) else value


def moment(value: datetime) -> str:
    """A moment in the workspace's time zone: 23 Nov 2026 14:05."""
    return f"{value.astimezone(ZoneInfo(_time_zone.get())):%-d %b %Y %H:%M}"


def money_input(minor: int | None) -> str:
    """Money as typed in inputs: 1250.00."""
    return _written(plain_money(minor))


def plain_money(minor: int | None) -> str:
    """Money for files and programs, with a point whatever the workspace's style: 1250.00."""
    return "" if minor is None else f"{Decimal(minor).scaleb(-currency_decimals()):f}"


def currency_sign() -> str:
    """The sign of the workspace's currency."""
    return get_currency_symbol(currency(), locale="en_GB")


def plan_value(value: int | None, is_money: bool) -> str:
    """A sum of the quota plan: money in whole units, counts as they are."""
    return whole(value) if is_money else bare(value) or NONE_SIGN


def quantity(ten_thousandths: int | None) -> str:
    """A quantity kept in ten-thousandths: 2.5."""
    if ten_thousandths is None:
        return NONE_SIGN
    return (
        _written(f"{Decimal(ten_thousandths) / 10_000:f}".rstrip("0").rstrip("."))
        if ten_thousandths % 10_000
        else str(ten_thousandths // 10_000)
    )


def plural(number: int | None, one: str, many: str = "") -> str:
    """A number with what is counted: 1 deal, 2 deals, 3 cities; `many` where no rule gives it."""
    if number == 1:
        return f"{count(number)} {one}"
    last = (
        one[:-1] + "ies" if re.search("[^aeiou]y$", one) else f"{one}{'es' if re.search('(s|x|ch|sh)$', one) else 's'}"
    )
    return f"{count(number)} {many or IRREGULAR.get(one, last)}"


IRREGULAR = {"person": "people"}


# The kinds of activities, the same everywhere.
ACTIVITIES = {
    "phone": "Phone call",
    "meeting": "Meeting",
    "mail": "E-mail",
    "site_visit": "Site visit",
    "task": "Task",
    "web_visit": "Web visit",
}


def as_words(name: str) -> str:
    """A kept word as people read it: site_visit → Site visit, deal_type → deal type."""
    return ACTIVITIES.get(name, name.replace("_", " "))
