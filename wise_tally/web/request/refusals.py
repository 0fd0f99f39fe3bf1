"""A request that is refused with one clear message."""


class Refused(Exception):
    """What was wrong and what is accepted, with the HTTP status of the answer."""

    def __init__(self, message: str, status: int = 400) -> None:
        super().__init__(message)
        self.status = status


class NothingYet(Exception):
    """A page with nothing to show yet: what belongs there, and the next step as words and the name of its address."""

    def __init__(self, message: str, step: str, address: str) -> None:
        super().__init__(message)
        self.step, self.address = step, address
