"""Numbers as people type them: plain digits, one point, spaces between thousands allowed."""

import re

TYPED = re.compile(r"(\d{1,11})(?:\.(\d+))?", re.ASCII)
SPACES = str.maketrans("", "", " \u202f\u00a0")


def typed_money(text: str, decimals: int) -> int | str:
    """Minor units, or what is wrong and what is accepted."""
    accepted = f"a number from 0 with at most {decimals} decimals and 11 digits before the point, such as 1250.00"
    return _typed(text, decimals, accepted)


def typed_percent(text: str) -> int | str:
    """Basis points of a percentage from 0 to 100, or what is wrong and what is accepted."""
    accepted = "a percentage from 0 to 100 with at most 2 decimals, such as 12.5"
    value = _typed(text, 2, accepted)
    if isinstance(value, int) and value > 10_000:
        return f"“{text[:40]}” is above 100. Enter {accepted}."
    return value


def typed_days(text: str) -> int | str | None:
    """Hundredths of days, None for an empty field, or what is wrong and what is accepted."""
    return _typed(text, 2, "days from 0 with at most 2 decimals, or nothing") if text.strip() else None


def typed_count(text: str) -> int | str:
    """Hundredths of a number from 0, or what is wrong and what is accepted."""
    return _typed(text, 2, "a number from 0 with at most 2 decimals, such as 12")


def typed_quantity(text: str) -> int | str:
    """Ten-thousandths of a quantity from 0, or what is wrong and what is accepted."""
    return _typed(text, 4, "a quantity from 0 with at most 4 decimals, such as 2.5")


def _typed(text: str, decimals: int, accepted: str) -> int | str:
    found = TYPED.fullmatch(text.strip().translate(SPACES))
    if not found or len(found[2] or "") > decimals:
        return f"“{text[:40]}” is not valid. Enter {accepted}."
    return int(found[1] + (found[2] or "").ljust(decimals, "0"))
