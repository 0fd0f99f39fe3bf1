"""What the working panel shows, the same on every page."""

from dataclasses import dataclass

FIRST_DEALS = 10


@dataclass(frozen=True)
class PanelTerm:
    """A line of the sum."""

    words: str
    value: str


@dataclass(frozen=True)
class PanelDeal:
    """A counted deal with its part of the figure in words."""

    key: str
    name: str
    value: str


@dataclass(frozen=True)
class Panel:
    """Definition, formula with numbers, deals counted and not counted."""

    title: str
    definition: str
    terms: tuple[PanelTerm, ...]
    total: str
    total_words: str
    deals: tuple[PanelDeal, ...] = ()
    counted: int = 0
    folded: int = 0
    folded_value: str = ""
    not_counted: tuple[tuple[str, int], ...] = ()
    note: str = ""
