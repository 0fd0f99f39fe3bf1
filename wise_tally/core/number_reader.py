"""Numbers as people write them, read once for all fields, pasted cells and files: 12,500.00, 12 500,00, €12.5k, (1,200), 35 %."""

import re
from dataclasses import dataclass
from decimal import Decimal

SPACES = str.maketrans(dict.fromkeys("\u00a0\u202f\u2009'’", " "))
MINUS_SIGNS = str.maketrans(dict.fromkeys("\u2212\u2013", "-"))
SIZES = {"": 1, "k": 1_000, "m": 1_000_000}
# A sign, a currency before the digits with their separators, and what stands after: a size, a currency or a percent sign.
SHAPE = re.compile(
    r"(?P<sign>[+-]?)\s*(?P<before>[^\d\s.,+-]{0,3})\s*(?P<inner>[+-]?)\s*(?P<digits>[.,]?\d[\d., ]*)(?P<after>[^\d.,+-]*)",
    re.ASCII,
)


@dataclass(frozen=True)
class NumberStyle:
    """What decides where a text alone can be read in two ways: the sign before decimals.

    With `groups` only these signs stand between thousands, as in a column of one form; anything else is no number of it.
    """

    decimal: str = "."
    groups: str | None = None


@dataclass(frozen=True)
class WrittenNumber:
    """A number that was read, whether its text could be read in two ways, and what stood beside it: a currency or %."""

    value: Decimal
    unit: str = ""
    is_ambiguous: bool = False


class NotANumber(ValueError):
    """A text that is no number, or none of the style."""


def whole_number(text: str, most: int = 10**15) -> int | None:
    """The whole number from 0 to `most` that digits alone write, None for any other text."""
    number = int(text) if re.fullmatch(r"[0-9]{1,16}", text) else None
    return None if number is None or number > most else number


def read_number(text: str, style: NumberStyle = NumberStyle()) -> WrittenNumber:
    """The number that a text writes; raises NotANumber.

    Signs between thousands count only before groups of three digits. Two different signs, or one that comes twice, show
    thousands from decimals; a single sign before exactly three digits is read by the style. Brackets are a minus.
    Source: common practice of spreadsheets and ledgers.
    """
    plain = text.translate(SPACES).translate(MINUS_SIGNS).strip()
    bracketed = plain.startswith("(") and plain.endswith(")")
    match = SHAPE.fullmatch(plain[1:-1].strip() if bracketed else plain)
    if not match or (match["sign"] and match["inner"]) or (bracketed and (match["sign"] or match["inner"])):
        raise NotANumber(text)
    size, unit = _size_and_unit(match["after"].strip())
    before = match["before"].strip()
    if before and unit:
        raise NotANumber(text)
    digits, is_ambiguous = _plain_digits(match["digits"].strip(), style)
    value = Decimal(digits) * SIZES[size]
    negative = bracketed or "-" in (match["sign"], match["inner"])
    return WrittenNumber(-value if negative else value, unit or before, is_ambiguous)


def _size_and_unit(text: str) -> tuple[str, str]:
    """“k”, “m” or nothing, and what follows; “MXN” is a currency, “m €” a million of one."""
    first, rest = text[:1].lower(), text[1:]
    if first in SIZES and not rest[:1].isalpha():
        return first, rest.strip()
    return "", text


def _plain_digits(text: str, style: NumberStyle) -> tuple[str, bool]:
    """Digits with a point before decimals, and whether the text could be read in two ways."""
    decimal, is_ambiguous = _decimal_sign(text, style)
    whole, _, fraction = text.partition(decimal) if decimal else (text, "", "")
    groups = set(whole) - set("0123456789")
    allowed = set(" .,") if style.groups is None else set(style.groups)
    if len(groups) > 1 or not groups <= allowed or not (fraction or "0").isdigit() or (decimal and not fraction):
        raise NotANumber(text)
    first, *rest = whole.split(groups.pop()) if groups else [whole]
    if rest and not (1 <= len(first) <= 3 and all(len(part) == 3 for part in rest)):
        raise NotANumber(text)
    return f"{first or '0'}{''.join(rest)}.{fraction or '0'}", is_ambiguous


def _decimal_sign(text: str, style: NumberStyle) -> tuple[str, bool]:
    """The sign before decimals, "" for none, and whether it could be a sign between thousands."""
    signs = [sign for sign in text if sign in ".,"]
    if style.groups is not None:
        return (style.decimal if style.decimal in signs else ""), False
    if len(set(signs)) == 2:
        return signs[-1], False
    if len(signs) != 1:
        return "", False
    could_group = re.fullmatch(r"[1-9]\d{0,2}[.,]\d{3}", text) is not None
    return ("" if could_group and signs[0] != style.decimal else signs[0]), could_group
