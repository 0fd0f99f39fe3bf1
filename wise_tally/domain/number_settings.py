"""Numbers that an operator sets."""

import os
from collections.abc import Callable
from typing import TypeVar

from django.core.exceptions import ImproperlyConfigured

Number = TypeVar("Number", bound=float)


def number(name: str, otherwise: Number, kind: Callable[[str], Number]) -> Number:
    """A setting of the environment as a number from 0; raises ImproperlyConfigured in words."""
    given = os.environ.get(name, "").strip()
    try:
        value = kind(given) if given else otherwise
        if value < 0:
            raise ValueError
    except ValueError:
        raise ImproperlyConfigured(f"{name} is “{given}”. Give a number from 0, such as {otherwise}.") from None
    return value
