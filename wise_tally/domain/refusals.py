"""Writes that are not carried out; whoever asked reads the message, which says what is accepted."""


class WriteRefused(Exception):
    """What was asked for is not accepted."""


class WriteConflict(WriteRefused):
    """What was asked for does not go with what is there: it was changed since, is in use, or is over."""
