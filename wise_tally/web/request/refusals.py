"""A request that is refused with one clear message."""


class Refused(Exception):
    """What was wrong and what is accepted, with the HTTP status of the answer."""

    def __init__(self, message: str, status: int = 400) -> None:
        super().__init__(message)
        self.status = status


class BadLink(Refused):
    """An address that no page makes; `text` is the part of it that is not accepted."""

    def __init__(self, message: str, text: str, status: int = 400) -> None:
        super().__init__(message, status)
        self.text = text


class NothingYet(Exception):
    """A page with nothing to show yet: what belongs there, and the next step as words and the name of its address."""

    def __init__(self, message: str, step: str, address: str) -> None:
        super().__init__(message)
        self.step, self.address = step, address
