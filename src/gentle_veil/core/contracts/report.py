"""How long work tells its progress, and how it learns that it should stop."""

from typing import Protocol


class Report(Protocol):
    """Called once per unit of work; raises ``CancelledError`` when the owner asked to stop."""

    def __call__(self, done: int, total: int, doing: str = "", /) -> None: ...


def silent(done: int, total: int, doing: str = "") -> None:
    """The default: say nothing, never stop."""
