"""Choices among records: a list where they are few, else a field for a name, whose suggestions are asked for while it is typed."""

import re
from collections import Counter
from collections.abc import Iterable, Mapping
from typing import Any

from django import forms
from django.forms.utils import flatatt
from django.urls import reverse_lazy
from django.utils.html import format_html, format_html_join
from django.utils.safestring import SafeString, mark_safe

from wise_tally.web.request.refusals import Refused

# Identifier and name.
Pair = tuple[str, str]
# With more of them no page carries the list.
MOST_LISTED = 40
WITH_KEY = re.compile(r" \(([^()\s]+)\)$")
SELECTED = mark_safe(" selected")


def pairs_of(choices: Iterable[Any], empty: str | None = None) -> list[Pair]:
    """Identifier and name of pairs, of a mapping, of records with key and name, or of words alone; before them `empty`."""
    pairs = [_pair(one) for one in (choices.items() if isinstance(choices, Mapping) else choices)]
    return pairs if empty is None else [("", empty), *pairs]


def _pair(one: Any) -> Pair:
    if isinstance(one, str):
        return one, one
    return (str(one[0]), str(one[1])) if isinstance(one, tuple) else (one.key, one.name)


def key_of(choices: Iterable[Any], typed: str) -> str:
    """The identifier that was typed or whose name was, else what was typed; raises Refused where several have the name."""
    known, wanted = pairs_of(choices), typed.strip()
    if not wanted or any(key == wanted for key, _ in known):
        return wanted
    meant = wanted.casefold()
    # Names of a tree stand indented in its list.
    named = ((key, name.strip().casefold()) for key, name in known)
    keys = [key for key, name in named if meant in (name, _with_key(key, name).casefold())]
    if len(keys) > 1:
        raise Refused(f"Several are named “{wanted[:60]}”. Enter the ID instead: {', '.join(keys[:5])}.", 422)
    return keys[0] if keys else wanted


def choice_field(pairs: list[Pair], chosen: str, kind: str, attributes: dict[str, Any]) -> SafeString:
    """The field: a list, its options written at once, or one for a name of a kind that is suggested (see `web/picking`)."""
    if kind and len(pairs) > MOST_LISTED:
        return _typed_field(pairs, chosen, kind, attributes)
    options = ((key, SELECTED if key == chosen else "", name) for key, name in pairs)
    listed = format_html_join("", '<option value="{}"{}>{}</option>', options)
    return format_html("<select{}>{}</select>", flatatt(attributes), listed)


def _typed_field(pairs: list[Pair], chosen: str, kind: str, attributes: dict[str, Any]) -> SafeString:
    shown = next((name.strip() for key, name in pairs if key == chosen), chosen) if chosen else ""
    if shown and sum(name.strip() == shown for _, name in pairs) > 1:
        shown = _with_key(chosen, shown)
    empty = pairs[0][1] if pairs[0][0] == "" else ""
    return format_html(
        "<input{}>", flatatt(attributes | suggests(kind) | {"type": "text", "value": shown, "placeholder": empty})
    )


def suggests(kind: str) -> dict[str, Any]:
    """The attributes of a field for a name that is suggested."""
    return {"data-asks": reverse_lazy("names", args=[kind]), "autocomplete": "off"}


def _with_key(key: str, name: str) -> str:
    """How one of several with the same name is written."""
    return f"{name} ({key})"


def key_within(typed: str) -> str:
    """The identifier at the end of a name so written; empty where there is none."""
    match = WITH_KEY.search(typed)
    return match[1] if match else ""


def suggested(pairs: Iterable[Pair]) -> SafeString:
    """Names as suggestions of a field; of those that several have each with its identifier."""
    every = list(pairs)
    often = Counter(name for _, name in every)
    names = ((_with_key(key, name) if often[name] > 1 else name,) for key, name in every)
    return format_html_join("", '<option value="{}"></option>', names)


class LongSelect(forms.Select):
    """A choice that may be among many records of a kind."""

    def __init__(self, kind: str = "", **options: Any) -> None:
        super().__init__(**options)
        self.kind = kind

    def render(self, name: str, value: Any, attrs: dict[str, Any] | None = None, renderer: Any = None) -> SafeString:
        """The field."""
        attributes = self.build_attrs(self.attrs, {"name": name, **(attrs or {})})
        return choice_field(pairs_of(self.choices), "" if value is None else str(value), self.kind, attributes)


class KeyChoice(forms.ChoiceField):
    """A choice among records by identifier or name; the form decides which, an empty one is none. `kind` names what is suggested."""

    def __init__(self, label: str, kind: str = "", **options: Any) -> None:
        super().__init__(label=label, widget=LongSelect(kind), error_messages=not_listed(label), **options)

    def clean(self, value: Any) -> Any:
        """The identifier, None for none."""
        return super().clean(typed_key(self.choices, value)) or None


def typed_key(choices: Any, typed: str | None) -> str:
    """The identifier of what was typed into a field of a form; raises ValidationError."""
    try:
        return key_of(choices, typed or "")
    except Refused as several:
        raise forms.ValidationError(str(several)) from None


def not_listed(label: str) -> dict[str, str]:
    """The messages where nothing of such a name or identifier can be chosen."""
    return {"invalid_choice": f"“%(value).60s” is not a valid {label.lower()}. Choose one from the list."}
