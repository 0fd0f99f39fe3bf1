"""Numbers as people type them, in the units that are kept; what is wrong comes back in words."""

from decimal import Decimal

from wise_tally.core.number_reader import NotANumber, read_number
from wise_tally.domain import formats

DIGITS = 10**11


def typed_money(text: str, decimals: int) -> int | str:
    """Minor units from 0, or what is wrong and what is accepted; the workspace's currency may stand beside."""
    example = f"1250{formats.decimal_sign()}00"
    accepted = f"a number from 0 with at most {decimals} decimals and 11 digits before the point, such as {example}"
    return _typed(text, decimals, accepted, (formats.currency(), formats.currency_sign()))


def typed_percent(text: str) -> int | str:
    """Basis points of a percentage from 0 to 100, or what is wrong and what is accepted."""
    accepted = "a percentage from 0 to 100 with at most 2 decimals, such as 12.5"
    value = _typed(text, 2, accepted, ("%",))
    if isinstance(value, int) and value > 10_000:
        return f"“{text[:40]}” is above 100. Enter {accepted}."
    return value


def typed_days(text: str) -> int | str | None:
    """Hundredths of days, None for an empty field, or what is wrong and what is accepted."""
    return _typed(text, 2, "days from 0 with at most 2 decimals, or nothing", ("d",)) if text.strip() else None


def typed_count(text: str) -> int | str:
    """Hundredths of a number from 0, or what is wrong and what is accepted."""
    return _typed(text, 2, "a number from 0 with at most 2 decimals, such as 12")


def typed_quantity(text: str) -> int | str:
    """Ten-thousandths of a quantity from 0, or what is wrong and what is accepted."""
    return _typed(text, 4, "a quantity from 0 with at most 4 decimals, such as 2.5")


def typed_number(text: str) -> Decimal | str:
    """A number, also below 0, with at most 4 decimals, or what is wrong and what is accepted."""
    refused = f"“{text[:40]}” is not a number. Enter a number such as 12.5."
    try:
        read = read_number(text, formats.number_style())
    except NotANumber:
        return refused
    value = read.value.normalize()
    exponent = value.as_tuple().exponent
    fits = abs(value) < DIGITS and isinstance(exponent, int) and exponent >= -4
    return (value + 0 if fits else refused) if not read.unit else refused


def _typed(text: str, decimals: int, accepted: str, units: tuple[str, ...] = ()) -> int | str:
    refused = f"“{text[:40]}” is not valid. Enter {accepted}."
    try:
        read = read_number(text, formats.number_style())
    except NotANumber:
        return refused
    if read.unit and read.unit.casefold() not in {unit.casefold() for unit in units}:
        known = f"; only {units[-1]} may be written with the number" if units else ""
        return f"“{text[:40]}” is not valid: “{read.unit[:10]}” is not accepted here{known}."
    scaled = read.value.scaleb(decimals)
    if read.value < 0 or read.value >= DIGITS or scaled != scaled.to_integral_value():
        return refused
    return int(scaled)
