"""What a scope keeps beyond period, whose, where and process: deals of one value of further breakdowns."""

from datetime import date
from urllib.parse import quote, unquote

from wise_tally.core.book import Book
from wise_tally.core.breakdowns import LIMITING, grouping, may_limit, node_named
from wise_tally.core.errors import UnknownBreakdown
from wise_tally.web.breakdowns import words_of
from wise_tally.web.request.refusals import Refused

Only = tuple[tuple[str, int], ...]


def read_only(book: Book, text: str, as_of: date) -> Only:
    """The values that an address keeps, such as `source:Referral/deal_type:New`; raises Refused for unknown ones."""
    conditions = []
    for part in filter(None, text.split("/")):
        by, _, key = (unquote(side) for side in part.rpartition(":"))
        if not may_limit(by):
            raise Refused(f"“{by[:40]}” cannot be a filter. Choose one of: {', '.join(LIMITING)}.")
        try:
            conditions.append((by, node_named(grouping(book, by, as_of), key)))
        except (LookupError, UnknownBreakdown):
            known = ", ".join(_known(book, by, as_of)[:12]) or "none yet"
            raise Refused(f"{words_of(by)} “{key[:60]}” not found. Choose one of: {known}.", 404) from None
    return tuple(conditions)


def _known(book: Book, by: str, as_of: date) -> tuple[str, ...]:
    try:
        return grouping(book, by, as_of).keys
    except UnknownBreakdown:
        return ()


def only_token(by: str, key: str) -> str:
    """One value as addresses name it."""
    return f"{quote(by, safe=':')}:{quote(key, safe='')}"


MOST_VALUES = 40


def filter_choices(book: Book, as_of: date) -> list[tuple[str, list[tuple[str, str]]]]:
    """What a scope may be kept to: by breakdown its first values, each as addresses name it and as people read it."""
    choices = []
    for by in LIMITING:
        group = grouping(book, by, as_of)
        values = [(only_token(by, key), name) for key, name in zip(group.keys, group.names, strict=True)][:MOST_VALUES]
        if values:
            choices.append((words_of(by), values))
    return choices


def only_words(book: Book, only: Only, as_of: date) -> str:
    """What is kept, as people read it: source Referral, deal type New; empty where all is."""
    shown = []
    for by, node in only:
        name = grouping(book, by, as_of).key_and_name(node)[1]
        shown.append(f"{words_of(by)} {name}" if name is not None else f"deals without {words_of(by)}")
    return ", ".join(shown)
