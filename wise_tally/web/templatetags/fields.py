"""Choices that stand outside a form of Django’s, and fields of forms as they are read where they cannot be changed."""

from collections.abc import Iterable
from typing import Any

from django import template
from django.forms import BoundField
from django.utils.safestring import SafeString

from wise_tally.web.forms.choices import choice_field, pairs_of

register = template.Library()


@register.filter
def as_read(field: BoundField) -> str:
    """The value of a field in words: yes or no, the label of a choice, else as typed; “none” for nothing."""
    value = field.value()
    if isinstance(value, bool):
        return "yes" if value else "no"
    labels = {str(key): str(label) for key, label in getattr(field.field, "choices", ())}
    return labels.get(str(value), str(value)) if value not in (None, "") else "none"


@register.simple_tag
def choice(name: str, choices: Iterable[Any], chosen: Any = "", kind: str = "", **own: Any) -> SafeString:
    """A choice by `name` (choices as `pairs_of` takes them), of many records of a `kind` by typing.

    Said besides: what stands for nothing chosen (`empty`); the `id` that its label names, else the `label` (and `row`) read
    out; whether it is `wrong`.
    """
    label = f"{own['label']}, row {own['row']}" if "row" in own else own.get("label")
    attributes = {"class": "boxed", "id": own.get("id"), "name": name, "aria-label": label}
    attributes["aria-invalid"] = "true" if own.get("wrong") else None
    given = {key: value for key, value in attributes.items() if value}
    return choice_field(pairs_of(choices, own.get("empty")), "" if chosen is None else str(chosen), kind, given)
