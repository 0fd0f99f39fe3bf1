"""Choices that stand outside a form of Django’s, and fields of forms as they are read where they cannot be changed."""

from collections.abc import Iterable
from typing import Any

from django import template
from django.forms import BoundField
from django.utils.safestring import SafeString

from wise_tally.web.forms.choices import Pair, choice_field

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
def choice(name: str, choices: Iterable[Pair], chosen: str = "", kind: str = "", **said: Any) -> SafeString:
    """A choice by `name`. Said besides: the `id` that its label names, else the `label` (and `row`) read out; whether it is `wrong`."""
    label = f"{said['label']}, row {said['row']}" if "row" in said else said.get("label")
    attributes = {"class": "boxed", "id": said.get("id"), "name": name, "aria-label": label}
    attributes["aria-invalid"] = "true" if said.get("wrong") else None
    return choice_field(choices, chosen, kind, {key: value for key, value in attributes.items() if value})
