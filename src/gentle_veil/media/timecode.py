"""Timecode as text, at the edges only.

References
    [ST12-1]  SMPTE ST 12-1:2014, Time and Control Code, section 5.2.2: drop-frame counting leaves out frame
              numbers 00 and 01 (00 to 03 at 60000/1001) at the start of each minute not divisible by ten.
"""

from fractions import Fraction

DROP_RATES = {Fraction(30000, 1001): 2, Fraction(60000, 1001): 4}


def nominal_rate(rate: Fraction) -> int:
    """Frames counted per timecode second: 30 for 30000/1001."""
    return max(1, round(rate))


def timecode_text(count: int, rate: Fraction, *, drop: bool | None = None) -> str:
    """``HH:MM:SS:FF`` (``;`` before the frames when dropping) of frame ``count`` from midnight.

    ``drop`` None: drop-frame at 29.97 and 59.94. Counts wrap at 24 hours.
    References: [ST12-1] 5.2.2
    """
    base = nominal_rate(rate)
    per_minute = DROP_RATES.get(rate, 0) if drop in (None, True) else 0
    per_ten = base * 600 - 9 * per_minute
    n = count % (per_ten * 144)
    if per_minute:
        tens, rest = divmod(n, per_ten)
        n += 9 * per_minute * tens
        if rest >= base * 60:
            n += per_minute * (1 + (rest - base * 60) // (base * 60 - per_minute))
    frames, seconds = n % base, n // base
    mark = ";" if per_minute else ":"
    return f"{seconds // 3600:02}:{seconds // 60 % 60:02}:{seconds % 60:02}{mark}{frames:02}"


def timecode_count(text: str, rate: Fraction) -> int:
    """The frame count of a timecode; the inverse of `timecode_text`. Raises ValueError for a dropped number."""
    drop = ";" in text or "." in text
    parts = text.replace(";", ":").replace(".", ":").split(":")
    if len(parts) != 4 or not all(p.isdigit() for p in parts):
        raise ValueError(f"'{text}' is not a timecode; give hours:minutes:seconds:frames.")
    hours, minutes, seconds, frames = map(int, parts)
    base = nominal_rate(rate)
    if minutes > 59 or seconds > 59 or frames >= base:
        raise ValueError(f"'{text}' is not a timecode at {float(rate):.2f} frames per second.")
    per_minute = DROP_RATES.get(rate, 0) if drop else 0
    if per_minute and seconds == 0 and frames < per_minute and minutes % 10:
        raise ValueError(f"'{text}' names a frame that drop-frame counting leaves out.")
    total_minutes = 60 * hours + minutes
    dropped = per_minute * (total_minutes - total_minutes // 10)
    return (total_minutes * 60 + seconds) * base + frames - dropped
