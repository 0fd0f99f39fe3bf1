"""Telephone numbers found whatever stands between their digits."""

import re
from typing import Any

from django.db.models import F, QuerySet, Value
from django.db.models.functions import Replace

# So many digits at the end identify a number.
LEAST = 5


def digits_of(text: str) -> str:
    """The digits that identify a number, without the zeros before it; empty where the text is none."""
    digits = re.sub(r"[^0-9]", "", text).lstrip("0")
    return "" if len(digits) < LEAST or re.search("[a-z]", text, re.IGNORECASE) else digits


def with_plain_phone(records: QuerySet[Any]) -> QuerySet[Any]:
    """Records with `plain_phone`: their number without signs between its digits."""
    plain: Any = F("phone")
    for sign in " -()/.":
        plain = Replace(plain, Value(sign), Value(""))
    return records.annotate(plain_phone=plain)
