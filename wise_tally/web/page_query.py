"""What the address of a page holds beside its scope: each page declares its parameters once, as fields of a PageQuery.

A field made by `choice`, `text`, `several`, `one_day` or `whole` is read from the address, refused in words where it is not accepted,
and written back into every address that the page makes; a field made otherwise is none of the address.
"""

from collections.abc import Callable, Collection, Mapping
from dataclasses import Field, dataclass, field, fields
from typing import Any, Self
from urllib.parse import urlencode

from django.http import QueryDict

from wise_tally.core.number_reader import whole_number
from wise_tally.web.filter_line import PARTS, FilterLine
from wise_tally.web.request.choices import day_of, one_of
from wise_tally.web.request.refusals import Refused

MOST_TEXT, MOST_OF_SEVERAL, MOST_SEVERAL = 200, 400, 1_000
Accepted = Collection[str] | Callable[[], Collection[str]]


@dataclass(frozen=True)
class Link:
    """An entry among which a page lets choose: its words, the address of the page with it, whether it is chosen."""

    words: str
    query: str
    chosen: bool
    title: str = ""


@dataclass(frozen=True)
class Parameter:
    """How a part of an address is read (raises Refused) and written; `always`: written even where it is the usual one."""

    read: Callable[[str, list[str]], Any]
    write: Callable[[Any], list[str]] = lambda value: [str(value)] if value not in ("", None) else []
    always: bool = False
    name: str = ""
    accepted: Accepted | None = None


def _declared(parameter: Parameter, default: Any) -> Any:
    return field(default=default, metadata={"parameter": parameter})


def choice(accepted: Accepted, default: str | None = None, always: bool = False, name: str = "") -> Any:
    """One of the accepted texts (or of what the function gives); the first is the usual one unless `default` is."""
    usual = next(iter(accepted() if callable(accepted) else accepted)) if default is None else default

    def read(parameter: str, texts: list[str]) -> str:
        return one_of(texts[-1], accepted() if callable(accepted) else accepted, f"is not accepted as {parameter}")

    return _declared(Parameter(read, always=always, name=name, accepted=accepted), usual)


def text(most: int = MOST_TEXT, default: str = "", name: str = "") -> Any:
    """Any text, cut to `most` characters."""
    return _declared(Parameter(lambda _, texts: texts[-1].strip()[:most], name=name), default)


def several(name: str = "") -> Any:
    """Any number of texts, each once, in their order."""

    def read(_: str, texts: list[str]) -> tuple[str, ...]:
        return tuple(dict.fromkeys(text[:MOST_OF_SEVERAL] for text in texts[:MOST_SEVERAL]))

    return _declared(Parameter(read, list, name=name), ())


def one_day(name: str = "") -> Any:
    """A day; None where the address names none."""
    written = Parameter(
        lambda _, texts: day_of(texts[-1]), lambda value: [value.isoformat()] if value else [], name=name
    )
    return _declared(written, None)


def whole(least: int, most: int, name: str = "") -> Any:
    """A whole number within bounds; None where the address names none."""

    def read(parameter: str, texts: list[str]) -> int:
        number = whole_number(texts[-1], most)
        if number is None or number < least:
            raise Refused(
                f"“{texts[-1][:20]}” is not valid as {parameter}. Enter a whole number from {least} to {most}."
            )
        return number

    return _declared(Parameter(read, name=name), None)


@dataclass(frozen=True)
class OwnQuery:
    """What a page without a scope declares. Every address made here is accepted by the page."""

    @classmethod
    def parameters(cls) -> dict[str, tuple[Field[Any], Parameter]]:
        """The parts of the address by name."""
        pairs = ((one, one.metadata.get("parameter")) for one in fields(cls))
        return {parameter.name or one.name: (one, parameter) for one, parameter in pairs if parameter}

    @classmethod
    def values(cls, given: QueryDict) -> dict[str, Any]:
        """What an address says of the declared fields; raises Refused."""
        values = {}
        for name, (one, parameter) in cls.parameters().items():
            if texts := [text for text in given.getlist(name) if text]:
                values[one.name] = parameter.read(name, texts)
        return values

    def own(self, **changes: str | None) -> list[tuple[str, str]]:
        """What is declared as the address names it, with parts changed; None, empty and usual ones go."""
        pairs: list[tuple[str, str]] = []
        for name, (one, parameter) in self.parameters().items():
            value = getattr(self, one.name)
            texts = [changes[name] or ""] if name in changes else parameter.write(value)
            if parameter.always or texts != parameter.write(one.default):
                pairs += [(name, text) for text in texts if text]
        return pairs

    def query(self, **changes: str | None) -> str:
        """The page's address with parts changed."""
        return urlencode(self.own(**changes))

    def links(self, name: str, entries: Mapping[str, str], **changes: str | None) -> list[Link]:
        """A link for each value of a parameter (value: words), the chosen one marked; `changes` go with each."""
        chosen = getattr(self, self.parameters()[name][0].name)
        return [
            Link(words, self.query(**{name: value, **changes}), value == chosen) for value, words in entries.items()
        ]


@dataclass(frozen=True)
class PageQuery(OwnQuery):
    """The question of a page: its scope and what it declares."""

    line: FilterLine

    @classmethod
    def read(cls, line: FilterLine, given: QueryDict, **usual: Any) -> Self:
        """The question of an address; `usual` are values of this viewer where the address says nothing. Raises Refused."""
        return cls(line, **{**usual, **cls.values(given)})

    def query(self, **changes: str | None) -> str:
        """The page's address with parts of the scope or of its own changed."""
        scope = {
            name: changes.get(name, value) for name, value in {**dict.fromkeys(PARTS), **dict(self.line.given)}.items()
        }
        return urlencode([*((name, value) for name, value in scope.items() if value), *self.own(**changes)])

    def carried(self, *without: str) -> list[tuple[str, str]]:
        """The parts of the address that a form carries along, but for those that it sets itself."""
        return [(name, value) for name, value in (*self.line.given, *self.own()) if name not in without]
