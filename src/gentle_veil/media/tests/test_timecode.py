"""SMPTE counting and exact rates."""

from fractions import Fraction

import pytest

from gentle_veil.media.info import parse_rate, rate_text
from gentle_veil.media.timecode import timecode_count, timecode_text

F2997, F5994 = Fraction(30000, 1001), Fraction(60000, 1001)


@pytest.mark.published
@pytest.mark.parametrize(
    ("count", "rate", "text"),
    [
        # SMPTE ST 12-1, 5.2.2: numbers 00 and 01 are left out at each minute that is no multiple of ten.
        (1799, F2997, "00:00:59;29"),
        (1800, F2997, "00:01:00;02"),
        (17981, F2997, "00:09:59;29"),
        (17982, F2997, "00:10:00;00"),
        (107892, F2997, "01:00:00;00"),
        # At 59.94 four numbers are left out.
        (3599, F5994, "00:00:59;59"),
        (3600, F5994, "00:01:00;04"),
        (35964, F5994, "00:10:00;00"),
        (215784, F5994, "01:00:00;00"),
        (90000, Fraction(25), "01:00:00:00"),
        (86400, Fraction(24000, 1001), "01:00:00:00"),
    ],
)
def test_timecode__published_counts(count: int, rate: Fraction, text: str) -> None:
    assert timecode_text(count, rate) == text
    assert timecode_count(text, rate) == count


@pytest.mark.property
@pytest.mark.parametrize("rate", [F2997, F5994, Fraction(25)])
def test_timecode__every_count_of_eleven_minutes__comes_back(rate: Fraction) -> None:
    texts = [timecode_text(n, rate) for n in range(660 * round(rate))]
    assert len(set(texts)) == len(texts)
    assert all(timecode_count(t, rate) == n for n, t in enumerate(texts))


def test_timecode__drop_frame_keeps_to_the_clock_within_a_frame_and_a_bit() -> None:
    hour = timecode_count("01:00:00;00", F2997)
    assert abs(float(hour / F2997) - 3600) < 0.004


@pytest.mark.parametrize("text", ["00:01:00;00", "00:00:61:00", "12:00", "00:00:00:30", "aa:00:00:00"])
def test_timecode_count__no_timecode__is_refused(text: str) -> None:
    with pytest.raises(ValueError, match=text):
        timecode_count(text, F2997)


@pytest.mark.parametrize(
    ("text", "rate"),
    [
        ("25", Fraction(25)),
        ("23.976", Fraction(24000, 1001)),
        ("29.97", F2997),
        ("30000/1001", F2997),
        ("12.5", Fraction(25, 2)),
    ],
)
def test_parse_rate__is_exact(text: str, rate: Fraction) -> None:
    assert parse_rate(text) == rate
    assert parse_rate(rate_text(rate)) == rate


@pytest.mark.parametrize("text", ["fast", "0", "-25", "1/0", "100000"])
def test_parse_rate__nonsense__says_what_to_give(text: str) -> None:
    with pytest.raises(ValueError, match="rate"):
        parse_rate(text)
