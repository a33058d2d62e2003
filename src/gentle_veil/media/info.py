"""What is known of a clip before any picture of it is used."""

from dataclasses import dataclass, field
from fractions import Fraction
from typing import Any

from gentle_veil.core.colour.code_values import CodeValues

MAX_SIDE = 16384  # px; beyond it a picture is a mistake or an attack
MIN_SIDE = 16
MAX_FRAMES = 200_000


@dataclass(frozen=True)
class MediaInfo:
    """A clip as its file describes it.

    ``rate`` is exact, in frames per second, None for a sequence that has not been asked; ``numbers`` are the
    file's own frame numbers in order; ``pts`` the time stamps of a movie in ``time_base`` units, None for a
    sequence; ``held`` the numbers that are missing from a sequence and shown by the frame before them.
    """

    kind: str  # movie | sequence
    width: int
    height: int
    rate: Fraction | None
    first_frame: int
    frame_count: int
    codec: str
    pixel_format: str
    dtype: str
    transfer: str
    colour: dict[str, str] = field(default_factory=dict)
    pixel_aspect: Fraction = Fraction(1)
    timecode: str | None = None
    variable: bool = False
    time_base: Fraction | None = None
    pts: tuple[int, ...] | None = None
    held: tuple[int, ...] = ()
    warnings: tuple[str, ...] = ()

    @property
    def encoding(self) -> CodeValues:
        return CodeValues(self.transfer, self.dtype)

    @property
    def last_frame(self) -> int:
        return self.first_frame + self.frame_count - 1

    def seconds_at(self, k: int) -> Fraction:
        """When frame ``k`` (from 0) is shown, from the first frame on; exact."""
        if self.variable and self.pts is not None and self.time_base is not None:
            return (self.pts[k] - self.pts[0]) * self.time_base
        return Fraction(k) / (self.rate or Fraction(25))

    def described(self) -> dict[str, Any]:
        """The facts a person is shown, as plain data."""
        return {
            "kind": self.kind,
            "width": self.width,
            "height": self.height,
            "rate": None if self.rate is None else rate_text(self.rate),
            "first_frame": self.first_frame,
            "last_frame": self.last_frame,
            "frame_count": self.frame_count,
            "codec": self.codec,
            "pixel_format": self.pixel_format,
            "bits": {"uint8": 8, "uint16": 16, "float32": 32}[self.dtype],
            "transfer": self.transfer,
            "colour": self.colour,
            "pixel_aspect": rate_text(self.pixel_aspect),
            "timecode": self.timecode,
            "variable": self.variable,
            "held": list(self.held),
            "warnings": list(self.warnings),
        }


def rate_text(rate: Fraction) -> str:
    """A rational as ``24000/1001`` or ``25``."""
    return str(rate.numerator) if rate.denominator == 1 else f"{rate.numerator}/{rate.denominator}"


def parse_rate(text: str) -> Fraction:
    """The exact rate meant by ``25``, ``24000/1001``, ``29.97``; raises ValueError when it is none.

    The decimal spellings of the 1000/1001 family mean the exact rates of SMPTE ST 12-1.
    """
    cleaned = text.strip()
    try:
        value = Fraction(cleaned)
    except (ValueError, ZeroDivisionError):
        raise ValueError(f"'{text}' is not a frame rate; give it like 25, 24000/1001 or 29.97.") from None
    for base in (24, 30, 48, 60, 120):
        exact = Fraction(base * 1000, 1001)
        if "/" not in cleaned and value.denominator != 1 and abs(value - exact) < Fraction(1, 100):
            return exact
    if not Fraction(1, 10) <= value <= 1000:
        raise ValueError(f"A frame rate of {text} is outside 0.1 to 1000 frames per second; check it.")
    return value
