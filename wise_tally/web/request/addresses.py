"""Identifiers in addresses: free text, so a slash (and the sign that hides it) is written otherwise."""

from django.urls import register_converter

HIDDEN = (("~", "~7E"), ("/", "~2F"), ("\\", "~5C"))


class KeyConverter:
    """An identifier as one part of an address."""

    regex = "[^/]+"

    def to_python(self, value: str) -> str:
        """The identifier of an address."""
        for sign, hidden in reversed(HIDDEN):
            value = value.replace(hidden, sign)
        return value

    def to_url(self, value: object) -> str:
        """The part of an address for an identifier."""
        text = str(value)
        for sign, hidden in HIDDEN:
            text = text.replace(sign, hidden)
        return text


register_converter(KeyConverter, "key")
