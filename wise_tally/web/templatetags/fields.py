"""Fields of forms as they are read where they cannot be changed."""

from django import template
from django.forms import BoundField

register = template.Library()


@register.filter
def as_read(field: BoundField) -> str:
    """The value of a field in words: yes or no, the label of a choice, else as typed; “none” for nothing."""
    value = field.value()
    if isinstance(value, bool):
        return "yes" if value else "no"
    labels = {str(key): str(label) for key, label in getattr(field.field, "choices", ())}
    return labels.get(str(value), str(value)) if value not in (None, "") else "none"
