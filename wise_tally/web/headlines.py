"""Headline figures: what stands above a page, each with its working, where it came from and one comparison."""

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class Headline:
    """A figure with its working, where it came from (oldest first), and one comparison in words.

    `up` tells whether the comparison is good (None where it is neither): it gives the arrow and its colour.
    """

    name: str
    text: str
    working: str
    than: str
    up: bool | None = None
    history: Sequence[float] = ()
