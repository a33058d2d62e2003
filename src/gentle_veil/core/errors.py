"""Every error the product raises on purpose.

    VeilError(code, message, detail)
    |-- CoreError               a caller's mistake, found in the core
    |   |-- ShapeError          also ValueError
    |   `-- ParameterError      also ValueError
    |-- MediaError              a file that cannot be taken in or written
    |-- RuleError               valid words, but not now (stale revision, no track yet)
    |-- RecipeError             a recipe with faults; detail["faults"] lists all of them
    `-- NotFoundError           also LookupError

A *footage* outcome (lost, outside, weak) is a status in a result, never an exception.
Messages are for the user: what was wrong, what was expected, what to do next.
"""

from typing import Any


class VeilError(Exception):
    """Base of all errors: a stable ``code``, a plain ``message``, and ``detail`` as data."""

    code = "error"

    def __init__(self, message: str, *, code: str | None = None, **detail: Any) -> None:
        super().__init__(message)
        self.message = message
        self.detail = detail
        if code is not None:
            self.code = code


class CoreError(VeilError):
    code = "core"


class ShapeError(CoreError, ValueError):
    code = "shape"


class ParameterError(CoreError, ValueError):
    code = "parameter"


class MediaError(VeilError):
    code = "media"


class RuleError(VeilError):
    code = "rule"


class RecipeError(VeilError):
    code = "recipe"


class NotFoundError(VeilError, LookupError):
    code = "not_found"


class CancelledError(VeilError):
    """Raised inside long work when its owner asked it to stop."""

    code = "cancelled"

    def __init__(self) -> None:
        super().__init__("Stopped as asked; nothing half-done was kept.")
